"""From what a flow says of a destination to its adapter, and to the name of the place itself."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import make_url
from sqlalchemy.exc import ArgumentError

from metrikon.core.flows.model import Destination as Said
from metrikon.core.flows.model import XlsxDestination as SaidXlsx
from metrikon.destinations.sql import SqlDestination
from metrikon.destinations.xlsx import XlsxDestination
from metrikon.ports.destination import Destination, Unusable


def place(said: Said, home: Path) -> str:
    """The place itself, as it is named from the house, secrets left out: two flows that write to it share its delivery keys."""
    if isinstance(said, SaidXlsx):
        return f"xlsx:{_from_home(_absolute(said.path, home), home)}#{said.sheet}"
    try:
        url = make_url(_url(said.url, home))
    except ArgumentError:
        return f"sql:{said.table}"
    if url.get_backend_name() == "sqlite":
        return f"sql:sqlite:{_from_home(Path(url.database or ''), home)}#{said.table}"
    return f"sql:{url.get_backend_name()}:{url.host or 'localhost'}:{url.port or ''}/{url.database}#{said.table}"


def _from_home(path: Path, home: Path) -> str:
    return str(path.relative_to(home)) if path.is_relative_to(home) else str(path)


def former_place(said: Said, home: Path) -> str:
    """The place as an earlier version named it in its keys: by its path on the machine, without its host."""
    if isinstance(said, SaidXlsx):
        return f"xlsx:{_absolute(said.path, home)}#{said.sheet}"
    try:
        return f"sql:{_url(said.url, home).split('://', 1)[0]}://{make_url(_url(said.url, home))._replace(password=None, username=None).database}#{said.table}"
    except ArgumentError:
        return f"sql:{said.table}"


def build(said: Said, home: Path) -> Destination:
    """The adapter. Raises `Unusable` when what the flow says cannot be used."""
    if isinstance(said, SaidXlsx):
        return XlsxDestination(_absolute(said.path, home), said.sheet)
    try:
        return SqlDestination(_url(said.url, home), said.table)
    except ArgumentError as error:
        raise Unusable(f"{said.url!r} is no database URL, such as sqlite:///ledger.db.") from error


def _absolute(path: str, home: Path) -> Path:
    return Path(path) if Path(path).is_absolute() else home / path


def _url(url: str, home: Path) -> str:
    prefix = "sqlite:///"
    if url.startswith(prefix) and not url.startswith(prefix + "/"):
        return f"{prefix}{home / url.removeprefix(prefix)}"
    return url
