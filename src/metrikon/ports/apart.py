"""Apart: work on what strangers have made, in a process that may end without the service ending with it.

A work is a function of a module of ours: a request in, which is JSON, and bytes out. Whatever it opens stands in the request as a path.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Protocol

from metrikon.core.values.exact import as_kept

Work = Callable[[Mapping[str, Any]], bytes]


class Apart(Protocol):
    """Where such work is done."""

    def do(self, work: Work, request: Mapping[str, Any], opens: Path | None = None, name: str = "") -> bytes:
        """What a work gives. `opens`: the file that it opens, and `name`, as people know it.

        Raises what the work raises, and `ReaderDied` where its process ended; `Refused` for a file that has ended it too often.
        """
        ...


class InThisProcess:
    """Does it here: for tests, and for what is our own."""

    def do(self, work: Work, request: Mapping[str, Any], opens: Path | None = None, name: str = "") -> bytes:
        return work(as_kept(request))


HERE = InThisProcess()
