"""Samples of flows: any item, or a file of one's own, kept under a name with a word why."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from metrikon.engine.refusing import NotThere
from metrikon.ports.clock import Clock
from metrikon.ports.files import Files
from metrikon.store import flows, intakes, items, samples
from metrikon.store.database import Database
from metrikon.store.lists import NAME


class BadSample(ValueError):
    """A sample that cannot be kept; the message says why."""


class Samples:
    """Keeps samples. `most`: how many of the latest items of each intake count as candidates."""

    def __init__(self, database: Database, files: Files, clock: Clock, most: int) -> None:
        self._database, self._files, self._clock, self.most = database, files, clock, most

    def keep_item(self, flow: str, name: str, item_id: str, why: str, by: str) -> None:
        """Keep an item as a sample. Raises `NotThere` and `BadSample`."""
        with self._database.reading() as connection:
            row = items.whole(connection, item_id)
        if row is None:
            raise NotThere(f"There is no item {item_id}.")
        if not self._files.here(str(row["sha256"])):
            raise BadSample(f"The file of {row['name']} is kept no longer, so that it cannot be a sample.")
        kept = {column: row[column] for column in ("sha256", "intake", "size", "received_at", "data")}
        self._keep(flow, name, why, by, {**kept, "file_name": row["name"]})

    def keep_let_go(self, flow: str, name: str, intake: str, identity: str, why: str, by: str) -> None:
        """Keep as a sample what was sent and let go. Raises `NotThere` and `BadSample`."""
        with self._database.reading() as connection:
            row = intakes.one_let_go(connection, flow, intake, identity)
        if row is None or row["body"] is None:
            raise NotThere(f"What the intake {intake} of {flow} let go under {identity!r} is kept no longer.")
        kept = {
            "sha256": self._files.put(row["body"]),
            "intake": intake,
            "size": len(row["body"]),
            "received_at": row["came_at"],
            "data": row["data"],
        }
        self._keep(flow, name, why, by, {**kept, "file_name": row["name"]})

    def keep_file(self, flow: str, name: str, file_name: str, data: bytes, why: str, by: str) -> None:
        """Keep a file as a sample. Raises `NotThere` and `BadSample`."""
        if not data:
            raise BadSample("The file is empty.")
        row = {
            "sha256": self._files.put(data),
            "file_name": file_name[:255],
            "intake": "sample",
            "size": len(data),
            "received_at": self._clock.now(),
            "data": None,
        }
        self._keep(flow, name, why, by, row)

    def _keep(self, flow: str, name: str, why: str, by: str, row: dict[str, Any]) -> None:
        if not NAME.fullmatch(name):
            raise BadSample(f"{name!r} is no name for a sample: small letters, figures, - and _ are taken, at most 60.")
        row = {**row, "flow": flow, "name": name, "why": why, "kept_at": self._clock.now(), "kept_by": by}

        def job(connection: Connection) -> None:
            if flows.standing(connection, flow) is None:
                raise NotThere(flows.no_flow(connection, flow))
            samples.put(connection, row)

        self._database.write(job)

    def remove(self, flow: str, name: str) -> None:
        """Keep a sample no longer. Raises `NotThere`."""
        if not self._database.write(lambda connection: samples.remove(connection, flow, name)):
            raise NotThere(f"The flow {flow} has no sample {name!r}.")

    def of(self, flow: str) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
        """The samples of a flow, and the candidates: the latest items by each of its intakes."""
        with self._database.reading() as connection:
            return samples.of_flow(connection, flow), samples.candidates(connection, flow, self.most)

    def whole(self, flow: str, name: str) -> dict[str, Any]:
        """A sample with the hash and name of its file, and what is known of it, as JSON. Raises `NotThere`."""
        with self._database.reading() as connection:
            row = samples.get(connection, flow, name)
        if row is None:
            raise NotThere(f"The flow {flow} has no sample {name!r}. Keep one, or name an item.")
        return row
