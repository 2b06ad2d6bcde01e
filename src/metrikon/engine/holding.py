"""What the place behind a connection holds that a flow may name: folders of a mailbox, tables of a database, records and operations of a service, files."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Literal
from urllib.parse import urlsplit

from sqlalchemy import inspect
from sqlalchemy.exc import SQLAlchemyError

from metrikon.connections import imap, webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.connections.sql import words
from metrikon.core.flows.connecting import DATABASES
from metrikon.core.services.description import Description
from metrikon.core.services.notes import Notes
from metrikon.engine.describing import Describing
from metrikon.engine.outside import Outside

MOST = 2000


@dataclass(frozen=True)
class Named:
    """Something that may be named. `about`: what it is, in a few words."""

    name: str
    kind: Literal["folder", "table", "records", "operation", "file"]
    about: str = ""


def holds(outside: Outside, describing: Describing, connection: str) -> list[Named]:
    """What a connection's place holds, in the order in which it is told. Raises `FetchFailed`, `NotThere`."""
    scheme = urlsplit(str(outside.connections.one(connection)["address"])).scheme
    if scheme in ("http", "https"):
        told = describing.seen(connection)
        found = _of_service(told, describing.notes(connection)) if told is not None else _files(outside, connection)
    elif scheme in ("imap", "imaps"):
        found = _folders(outside, connection)
    elif scheme in DATABASES:
        found = _tables(outside, connection)
    else:
        raise FetchFailed(f"What is behind {scheme}:// holds nothing that a flow names.")
    return list(islice(found, MOST))


def _folders(outside: Outside, connection: str) -> Iterator[Named]:
    client = outside.mail(connection)
    try:
        for name in imap.folders(client):
            count = client.folder_status(name, ["MESSAGES"])[b"MESSAGES"]
            yield Named(name, "folder", f"{count} mail{'' if count == 1 else 's'}")
    except imap.DOWN as error:
        raise FetchFailed(f"The folders of {connection} could not be listed: {error}.", cause="unreachable") from error
    finally:
        client.shutdown()


def _tables(outside: Outside, connection: str) -> Iterator[Named]:
    try:
        looked = inspect(outside.database(connection))
        for name in sorted(looked.get_table_names()):
            yield Named(name, "table", ", ".join(str(each["name"]) for each in looked.get_columns(name))[:300])
    except SQLAlchemyError as error:
        raise FetchFailed(f"The tables of {connection} could not be listed: {words(error)}.", cause="unreachable") from error


def _files(outside: Outside, connection: str) -> Iterator[Named]:
    for file in webdav.files(outside.fetch, connection, ""):
        yield Named(file.name, "file", f"{file.size:,} bytes")


def _of_service(told: Description, notes: Notes | None) -> Iterator[Named]:
    for name, records in (notes.records if notes is not None else {}).items():
        yield Named(name, "records", f"made by {records.create or (records.append.operation if records.append else '')}")
    for operation in told.operations.values():
        yield Named(operation.name, "operation", operation.about or f"{operation.method} {operation.path}")
