"""Paths in flows: they start at the folder of the service, and are named from it, so that a service that was moved is the same."""

from __future__ import annotations

from pathlib import Path


def absolute(path: str, home: Path) -> Path:
    """A path of a flow as the machine has it."""
    return Path(path) if Path(path).is_absolute() else home / path


def from_home(path: Path, home: Path) -> str:
    """A path as it is named from the folder of the service."""
    return str(path.relative_to(home)) if path.is_relative_to(home) else str(path)
