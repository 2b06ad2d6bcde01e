"""Passwords that open what a flow takes in: in a file that only the service's own user can read.

They are no part of a flow, so that its versions, copies and exports never carry them.
"""

from __future__ import annotations

import json
import os
import threading
from pathlib import Path


class Passwords:
    """The passwords of each flow, kept under `root`."""

    def __init__(self, root: Path) -> None:
        self._place = root / "passwords.json"
        self._lock = threading.Lock()

    def of(self, flow: str | None = None) -> tuple[str, ...]:
        """The passwords of a flow; of all flows without one."""
        kept = self._kept()
        found = kept.get(flow, []) if flow is not None else [each for given in kept.values() for each in given]
        return tuple(dict.fromkeys(found))

    def put(self, flow: str, passwords: list[str]) -> None:
        """Set the passwords of a flow, in the place of those before."""
        with self._lock:
            kept = {**self._kept(), flow: passwords}
            aside = self._place.with_suffix(".new")
            handle = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
            with os.fdopen(handle, "w") as out:
                json.dump({name: given for name, given in kept.items() if given}, out)
                out.flush()
                os.fsync(out.fileno())
            os.replace(aside, self._place)

    def _kept(self) -> dict[str, list[str]]:
        try:
            return dict(json.loads(self._place.read_text("utf-8")))
        except FileNotFoundError:
            return {}
