"""What the machine may be short of. That is never the fault of what is being worked on: it waits, and goes on by itself."""

from __future__ import annotations

import errno
import sqlite3

LOOK = 5.0  # seconds after which is looked again
_SHORT = {
    errno.ENOSPC: "The disk is full",
    errno.EDQUOT: "The disk is full",
    errno.EROFS: "The disk can only be read",
    errno.ENOMEM: "Memory is short",
    errno.EMFILE: "Too many files are open",
    errno.ENFILE: "Too many files are open",
    errno.EAGAIN: "Too many processes are running",
}
_SHORT_SQLITE = {sqlite3.SQLITE_FULL: "The disk is full", sqlite3.SQLITE_NOMEM: "Memory is short"}
_DEEPEST = 10  # errors because of each other


class MachineShort(Exception):
    """The machine is short of something; the message says of what."""


class NoRoom(MachineShort):
    """There is no room for more on the disk; nothing was taken in."""


def short_of(error: BaseException | None) -> str:
    """What the machine is short of, when that is why an error came up, in words; empty for any other error."""
    for _ in range(_DEEPEST):
        if error is None:
            break
        if isinstance(error, MachineShort):
            return str(error)
        if isinstance(error, MemoryError):
            return "Memory is short"
        code = getattr(error, "sqlite_errorcode", None)
        found = _SHORT_SQLITE.get(code & 0xFF) if isinstance(code, int) else _SHORT.get(error.errno or 0) if isinstance(error, OSError) else None
        if found:
            return found
        error = error.__cause__ or getattr(error, "orig", None)
    return ""
