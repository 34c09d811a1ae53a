"""Which version of the program this is: the commit for people, a digest of the source for machines that have to be of one."""

import hashlib
import os
import subprocess
from functools import lru_cache
from pathlib import Path

HOME = Path(os.environ.get("OTREVO_HOME", Path(__file__).resolve().parents[3]))


@lru_cache
def code_version():
    try:
        out = subprocess.run(["git", "rev-parse", "--short", "HEAD"], cwd=HOME, capture_output=True, timeout=5)
        return out.stdout.decode().strip() or "unknown"
    except (OSError, subprocess.TimeoutExpired):
        return "unknown"


@lru_cache
def source_digest():
    digest = hashlib.sha256()
    for file in sorted((HOME / "src").rglob("*.py")):
        digest.update(file.read_bytes())
    return digest.hexdigest()[:12]
