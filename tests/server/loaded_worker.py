"""Loaded once by the process that forks the workers of tests (tests.server.workers), with what others load when they first need it."""

import scipy.signal  # noqa: F401

from otrevo.cli.warm import bodies, sureness
from otrevo.server.work.worker import load

load()
bodies()
sureness()
