"""What a flow touches outside the service: a folder or file of this machine, or a server."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Touched:
    """A `path` of this machine, or the `address` of a server with what is used there, such as ledger.garden.example:5432/ledger."""

    path: Path | None = None
    address: str = ""
