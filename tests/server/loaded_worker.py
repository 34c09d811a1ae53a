"""Loaded once by the process that forks the workers of tests (tests.server.workers)."""

from otrevo.server.work.worker import load

load()
