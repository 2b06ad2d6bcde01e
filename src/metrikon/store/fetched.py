"""What was fetched by HTTP: by which validators it is asked for again, and under which hash it is kept."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field

from sqlalchemy import Connection, delete, insert, select

from metrikon.core.values.exact import dumps, loads
from metrikon.store.tables import fetched


@dataclass(frozen=True)
class KeptPage:
    """A page or file as it is kept."""

    file: str
    name: str
    media: str
    size: int
    url: str
    changed: bool = True
    validators: Mapping[str, str] = field(default_factory=dict)
    status: int = 200  # another one is an answer that is not kept


def known(connection: Connection, url: str) -> KeptPage | None:
    """What was fetched last from an address; None when nothing was."""
    row = connection.execute(select(fetched.c.page).where(fetched.c.address == _mark(url))).scalar()
    return KeptPage(**loads(row)) if row else None


def keep(connection: Connection, url: str, page: KeptPage, at: int) -> None:
    """Keep what was fetched from an address, in the place of what was fetched before."""
    connection.execute(delete(fetched).where(fetched.c.address == _mark(url)))
    shown = {name: getattr(page, name) for name in ("file", "name", "media", "size", "url")} | {"validators": dict(page.validators)}
    connection.execute(insert(fetched).values(address=_mark(url), page=dumps(shown), at=at))


def _mark(url: str) -> str:
    return hashlib.sha256(url.encode()).hexdigest()
