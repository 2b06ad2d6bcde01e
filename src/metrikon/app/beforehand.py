"""What is to be told of a flow before it takes anything in: destinations that take no row, things that another flow takes as well, choices left open."""

from __future__ import annotations

import os
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from metrikon.app.kinds import Kinds
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import BadFlow
from metrikon.engine.catalog import Catalog
from metrikon.engine.columns import ColumnsOf
from metrikon.ports.destination import DestinationKind
from metrikon.ports.intake import IntakeKind

MOST_COUNTED = 100_000  # entries of a folder: counting more would take longer than anybody waits


class Beforehand:
    """Looks at a flow as it is kept."""

    def __init__(self, catalog: Catalog, kinds: Kinds, columns: ColumnsOf, home: Path) -> None:
        self._catalog, self._kinds, self._columns, self._home = catalog, kinds, columns, home

    def told(self, flow: Flow) -> list[str]:
        """In sentences; an empty list where nothing is to be told."""
        return [*self._destinations(flow), *self._others(flow), *self._circles(flow), *self._remarks(flow)]

    def places(self, flow: Flow) -> list[str]:
        """Where on this machine it looks and writes, each by its whole path, with what is there now."""
        found = [f"Its intake {said.name} looks at {there}" for said in flow.intakes if (there := self._here(self._kinds.intakes[said.kind], said))]
        for name, said in flow.destinations.items():
            if there := self._here(self._kinds.destinations[said.kind], said):
                found.append(f"Its destination {name} writes to {there}")
        return found

    def _here(self, kind: IntakeKind | DestinationKind, said: Said) -> str:
        """A folder or file of this machine that is touched, and what is there; nothing for what is elsewhere."""
        path = self._touched(kind, said)
        if path is None:
            return ""
        try:
            return f"{path}, {_what_is_there(path)}."
        except OSError as error:
            return f"{path}, which cannot be read: {error.strerror}."

    def own(self, flow: Flow) -> list[str]:
        """Intakes to which is sent, and which no other flow shares: of a copy they have addresses of its own."""
        return [said.name for said in flow.intakes if self._kinds.intakes[said.kind].sent]

    def _destinations(self, flow: Flow) -> Iterator[str]:
        for name in flow.destinations:
            looked = self._columns.of(flow, name)
            if looked.unusable:
                yield f"Its destination {name} takes no row: {looked.why}"

    def _remarks(self, flow: Flow) -> Iterator[str]:
        for each in self._catalog.remarks_on(flow):
            yield f"Its step {each.step}, {each.place}: {each.message}"

    def _others(self, flow: Flow) -> Iterator[str]:
        """Other flows that take the same things."""
        mine = {place: said for said in flow.intakes if (place := self._place(said))}
        for name in self._catalog.names() if mine else ():
            if name == flow.name:
                continue
            try:
                other = self._catalog.newest_flow(name)
            except BadFlow:
                continue
            for said in other.intakes:
                place = self._place(said)
                same = mine.get(place) if place is not None else None
                if same is not None:
                    yield f"Its intake {same.name} takes the same things as that of {name}: what is there is taken by both. Give one of them another place, or a condition."

    def _circles(self, flow: Flow) -> Iterator[str]:
        """Places that it takes from and writes to: what it writes there comes in again."""
        taken = {touched.resolve(): said.name for said in flow.intakes if (touched := self._touched(self._kinds.intakes.get(said.kind), said))}
        for name, said in flow.destinations.items():
            touched = self._touched(self._kinds.destinations.get(said.kind), said)
            if touched is not None and touched.resolve() in taken:
                yield (
                    f"Its intake {taken[touched.resolve()]} takes from {touched}, to which its destination {name} writes: a row that it adds there starts a run, which "
                    "adds another. Set columns of the row that came in, or write to another place."
                )

    def _touched(self, kind: IntakeKind | DestinationKind | None, said: Said) -> Path | None:
        """The file of this machine that is taken from or written to."""
        if kind is None or not isinstance(said.form, kind.parameters):
            return None
        touched = kind.touches(said.form, self._home)
        if touched is None or touched.path is None:
            return None
        return touched.path if touched.path.is_absolute() else self._home / touched.path

    def _place(self, said: Said) -> tuple[str, str] | None:
        """What is looked at, where that is a place that others could look at."""
        kind = self._kinds.intakes.get(said.kind)
        if kind is None or kind.build is None or not isinstance(said.form, kind.parameters):
            return None
        if not kind.reaches and kind.touches(said.form, self._home) is None:
            return None
        place = kind.place(said.form, self._home)
        return (kind.name, place) if place else None


def _what_is_there(path: Path) -> str:
    if not path.exists():
        return "which is not there yet"
    if not path.is_dir():
        return f"a file of {path.stat().st_size:,} bytes"
    count = sum(1 for each in islice(os.scandir(path), MOST_COUNTED) if each.is_file() and not each.name.startswith("."))
    if count == 0:
        return "in which no file is"
    return f"in which {'one file is' if count == 1 else f'{count:,} files are'}"
