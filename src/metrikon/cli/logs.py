"""What the service writes to its log: one line a message, whatever the names and paths in it are made of."""

from __future__ import annotations

import logging
import re
from typing import Any, TextIO

_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]")


class OneLine(logging.Formatter):
    """Line breaks within a message are shown, not made; lines of a traceback are set off, so that none can be taken for a message."""

    def formatMessage(self, record: logging.LogRecord) -> str:
        record.message = _CONTROL.sub(lambda found: found.group().encode("unicode_escape").decode(), record.message)
        return super().formatMessage(record)

    def formatException(self, ei: Any) -> str:
        return "\n".join(f"  | {line}" for line in super().formatException(ei).splitlines())


def log_to(err: TextIO, level: int, form: str) -> None:
    """Write messages of a level and above."""
    handler = logging.StreamHandler(err)
    handler.setFormatter(OneLine(form))
    logging.basicConfig(level=level, handlers=[handler])
