"""What a process that reads untrusted bytes is given: of the environment no secret, and no network where the machine allows that."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Mapping
from functools import lru_cache

KEPT = ("PATH", "HOME", "LANG", "LC_ALL", "TZ", "TMPDIR", "PYTHONPATH", "VIRTUAL_ENV", "LD_LIBRARY_PATH")  # of the environment
MEMORY = "METRIKON_READER_MEMORY_MB"
COMMAND = (sys.executable, "-m", "metrikon.drivers.confined")


def environment(memory_mb: int, given: Mapping[str, str] | None = None) -> dict[str, str]:
    """The environment of such a process."""
    source = os.environ if given is None else given
    return {**{name: source[name] for name in KEPT if name in source}, MEMORY: str(memory_mb), "OMP_NUM_THREADS": "2"}


@lru_cache
def cut_off() -> bool:
    """Whether such processes can be cut off from the network on this machine."""
    done = subprocess.run([*COMMAND, "--check"], env=environment(3000), stdin=subprocess.DEVNULL, capture_output=True, check=False)
    return done.returncode == 0
