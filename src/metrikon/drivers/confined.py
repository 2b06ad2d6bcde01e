"""A process that reads untrusted bytes, with no more than it needs: no secrets, no network, no new rights, and limits on memory, files and processes.

`python -m metrikon.drivers.confined` begins so; with `--check` it only says whether the network could be cut off. It is a module of its own that
loads nothing heavy, since a process with threads can no longer give its network up.
"""

from __future__ import annotations

import ctypes
import os
import resource
import sys

from metrikon.drivers.surroundings import MEMORY

LARGEST_FILE = 2_000_000_000  # bytes that it may write into one file
MORE_THREADS = 256  # than its user has when it begins
_NEW_USER, _NEW_NETWORK = 0x10000000, 0x40000000  # flags of unshare(2)
_NO_NEW_PRIVILEGES = 38  # option of prctl(2)


def confine() -> bool:
    """Give up what is not needed; whether the network was, too. Before any thread is started."""
    memory = int(os.environ.get(MEMORY, "3000")) * 1_000_000
    for what, most in (
        (resource.RLIMIT_DATA, memory),
        (resource.RLIMIT_FSIZE, LARGEST_FILE),
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_NPROC, _threads_of_user() + MORE_THREADS),
    ):
        _, hard = resource.getrlimit(what)
        least = most if hard == resource.RLIM_INFINITY else min(most, hard)
        resource.setrlimit(what, (least, least))
    try:
        system = ctypes.CDLL(None, use_errno=True)
        alone = system.unshare(_NEW_NETWORK) == 0 or system.unshare(_NEW_USER | _NEW_NETWORK) == 0
        system.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    except (OSError, AttributeError):
        return False  # a system without them
    return bool(alone)


def _threads_of_user() -> int:
    count = 0
    for name in os.listdir("/proc") if os.path.isdir("/proc") else ():
        try:
            if name.isdecimal() and os.stat(f"/proc/{name}").st_uid == os.getuid():
                count += len(os.listdir(f"/proc/{name}/task"))
        except OSError:
            continue  # it has ended
    return count


if __name__ == "__main__":
    alone = confine()
    if "--check" in sys.argv:
        sys.exit(0 if alone else 1)
    from metrikon.drivers.worker import main

    main()
