"""Services of connections that describe themselves: their OpenAPI description is kept, and what a person has noted of it."""

from __future__ import annotations

import re
import threading
from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from metrikon.core.flows.problems import in_our_words
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.services.description import BadDescription, Description, description
from metrikon.core.services.notes import Notes, suggested, wrong
from metrikon.core.services.telling import ToldOperation, with_operation, without_operation
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.store import connections
from metrikon.store.current import Current
from metrikon.store.database import Database

LARGEST = 10_000_000  # bytes of a description


class BadNotes(ValueError):
    """Notes that do not fit; `problems`: each place with what is wrong there."""

    def __init__(self, problems: list[tuple[str, str]]) -> None:
        super().__init__("; ".join(f"{place}: {told}" for place, told in problems))
        self.problems = problems


class Describing:
    """Keeps descriptions and notes."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._known: dict[str, tuple[int, tuple[Description, Notes] | None]] = {}  # by connection, with when that was kept
        self._rows = Current(database, connections.get)
        self._lock = threading.Lock()

    def put(self, name: str, data: bytes) -> tuple[Description, Notes]:
        """Keep the description of a connection's service; what it holds, and notes that stand with it or seem to fit. Raises `BadDescription`, `NotThere`."""
        self._row(name)
        read = description_in(data)
        self._change(name, description=data)
        noted = self.notes(name)
        return read, noted if noted is not None and not list(wrong(noted, read)) else suggested(read)

    def tell(self, name: str, operation: str, told: ToldOperation) -> None:
        """Keep an operation that a person tells, beside those that are known. Raises `BadDescription`, `NotThere`."""
        if not re.fullmatch(r"[A-Za-z][A-Za-z0-9_.-]{0,99}", operation):
            raise BadDescription(f"{operation[:60]!r} is no name of an operation: letters, figures, points, hyphens and underscores, a letter first.")
        self._put_plain(name, with_operation(self._plain(name), operation, told, name))

    def untell(self, name: str, operation: str) -> None:
        """Know an operation no longer. Raises `NotThere`, and `NotNow` while notes name it, or where it is the last."""
        plain = self._plain(name)
        if plain is None or operation not in description(plain).operations:
            raise NotThere(f"The service of the connection {name} has no operation {operation!r}.")
        left = without_operation(plain, operation)
        if left is None:
            raise NotNow(f"{operation} is the only operation of {name}. Tell another one first, or give its description.")
        noted = self.notes(name)
        found = list(wrong(noted, description(left))) if noted is not None else []
        if found:
            raise NotNow(f"{operation} is named in the notes of {name} ({found[0][0]}). Correct these first.")
        self._put_plain(name, left)

    def _plain(self, name: str) -> Any:
        """The description as plain data; None where there is none."""
        told, _ = self._row(name)
        return _plain(told) if told is not None else None

    def _put_plain(self, name: str, plain: Any) -> None:
        description(plain)
        self._change(name, description=dumps(plain))

    def note(self, name: str, notes: Mapping[str, Any]) -> Notes:
        """Keep what a person confirms of a service. Raises `BadNotes`, `NotThere`."""
        told, _ = self._row(name)
        if told is None:
            raise NotThere(f"The service of the connection {name} is not described yet. Give it its OpenAPI description first.")
        try:
            made = Notes.model_validate(notes)
        except ValidationError as error:
            raise BadNotes([("/".join(map(str, each["loc"])), in_our_words(each, [])) for each in error.errors()]) from error
        if found := list(wrong(made, description_in(told))):
            raise BadNotes(found)
        kept = dumps(made.model_dump(exclude_defaults=True, by_alias=True))
        self._change(name, notes=kept)
        return made

    def _change(self, name: str, **columns: bytes) -> None:
        self._database.write(lambda connection: connections.change(connection, name, **columns))
        with self._lock:
            self._known.pop(name, None)

    def described(self, name: str) -> tuple[Description, Notes] | None:
        """The description and the notes of a connection's service; None where something of that is missing."""
        row = self._rows[name]
        if row is None:
            raise NotThere(f"There is no connection {name!r}.")
        with self._lock:
            known = self._known.get(name)
            if known is None or known[0] != row["put_at"]:
                told, noted = self._row(name)
                both = (description_in(told), Notes.model_validate(loads(noted))) if told is not None and noted is not None else None
                known = self._known[name] = int(row["put_at"]), both
            return known[1]

    def seen(self, name: str) -> Description | None:
        """The description alone."""
        told, _ = self._row(name)
        return description_in(told) if told is not None else None

    def notes(self, name: str) -> Notes | None:
        """The notes alone."""
        _, noted = self._row(name)
        return Notes.model_validate(loads(noted)) if noted is not None else None

    def _row(self, name: str) -> tuple[bytes | None, bytes | None]:
        with self._database.reading() as connection:
            row = connections.described(connection, name)
        if row is None:
            raise NotThere(f"There is no connection {name!r}.")
        return row


def description_in(data: bytes) -> Description:
    """The description in the bytes of a file: JSON or YAML. Raises `BadDescription`."""
    return description(_plain(data))


def _plain(data: bytes) -> Any:
    if len(data) > LARGEST:
        raise BadDescription(f"The description has {len(data) / 1e6:.1f} MB; at most {LARGEST / 1e6:.0f} MB are read.")
    try:
        return loads(data)
    except NotJson:
        pass
    try:
        return from_yaml(data.decode("utf-8-sig", "replace"))
    except NotYaml as error:
        raise BadDescription(f"It is neither JSON nor YAML that can be read: {error} A large one is read as JSON.") from error
