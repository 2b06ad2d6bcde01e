"""Which folders, files and servers flows may touch: those under the service's folder but its own, and what an admin allows besides.

It is looked at when a flow is kept and again whenever it is used, links followed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import Problem
from metrikon.ports.clock import Clock
from metrikon.ports.touching import Touched
from metrikon.store import places
from metrikon.store.database import Database
from metrikon.store.own import is_own

_ADDRESS = re.compile(r"[\w.-]+(:\d{1,5})?(/[\w.\- ]+)?")


class BadPlace(ValueError):
    """What was given is no place that can be allowed; the message says why."""


class Places:
    """`folders` and `servers`: those that the settings allow; `own`: files and folders that they name for the service itself. `touches`: what an intake or a
    destination touches."""

    def __init__(
        self,
        database: Database,
        clock: Clock,
        home: Path,
        folders: Sequence[Path],
        servers: Sequence[str],
        touches: Callable[[Said], Touched | None],
        own: Sequence[Path] = (),
    ) -> None:
        self._own = own
        self._database, self._clock, self._home = database, clock, home
        self._folders, self._servers = folders, servers
        self._touches = touches

    def problem(self, said: Said) -> str:
        """Why a flow may not touch what it says, with what to do; empty when it may."""
        touched = self._touches(said)
        if touched is None:
            return ""
        if touched.path is not None:
            return self.path_problem(touched.path)
        allowed = [*self._servers, *(row["place"] for row in self._kept() if not row["place"].startswith("/"))]
        if touched.address and not any(_covers(place, touched.address) for place in allowed):
            return f"Flows may not use {touched.address}. {_to_do(touched.address)}"
        return ""

    def problems(self, flow: Flow) -> list[Problem]:
        """A problem for each place of a flow that it may not touch."""
        every = [*flow.intakes, *flow.destinations.values()]
        return [Problem("", "/".join(map(str, said.where)), told, said.where) for said in every if (told := self.problem(said))]

    def path_problem(self, path: Path) -> str:
        """Why a flow may not touch a path of this machine, links followed; empty when it may."""
        place = path.resolve()
        if self.own(place):
            return f"{path} belongs to the service itself; flows never touch it. Name a folder or file of its own."
        allowed = [self._home, *self._folders, *(Path(row["place"]) for row in self._kept() if row["place"].startswith("/"))]
        if any(place == each or place.is_relative_to(each) for each in (one.resolve() for one in allowed)):
            return ""
        return f"Flows may not touch {path}, which lies outside the folder of the service. {_to_do(str(place.parent if place.suffix else place))}"

    def own(self, place: Path) -> bool:
        """Whether a path, links followed, is the service's own, or a folder that holds what is."""
        home = self._home.resolve()
        own = [each for each in self._own if not home.is_relative_to(each)]  # a folder around all is no place of its own
        if any(each.is_relative_to(place) for each in (home, *own)) or any(place.is_relative_to(each) for each in own):
            return True
        if not place.is_relative_to(home):
            return False
        return is_own(place.relative_to(home).parts[0])

    def allow(self, place: str, why: str, by: str) -> str:
        """Allow a folder, a file or a server; how it is kept. Raises `BadPlace`."""
        given = place.strip()
        if given.startswith(("/", "~", ".")):
            path = Path(given)
            if not path.is_absolute():
                raise BadPlace(f"{given} is no whole path. Give one that begins with /.")
            given = str(path.resolve())
            if self.own(Path(given)) or len(Path(given).parts) < 2:
                raise BadPlace(f"{given} holds what belongs to the service itself, or all of the machine. Give a folder of its own.")
        elif not _ADDRESS.fullmatch(given):
            raise BadPlace(f"{given[:80]!r} is neither a path nor a server, such as db.garden.example:5432/ledger.")
        self._database.write(lambda connection: places.allow(connection, given, why, by, self._clock.now()))
        return given

    def all(self) -> list[dict[str, Any]]:
        """Every place that is allowed besides the folder of the service, with who allowed it, when (milliseconds since 1970) and why."""
        given = [str(each) for each in self._folders] + [each.strip() for each in self._servers if each.strip()]
        return [*({"place": each, "why": "", "by": "settings", "at": None} for each in given), *self._kept()]

    def refuse(self, place: str) -> bool:
        """Allow a place no longer; whether it was."""
        return self._database.write(lambda connection: places.refuse(connection, place))

    def _kept(self) -> list[dict[str, Any]]:
        with self._database.reading() as connection:
            return places.all_places(connection)


def _covers(place: str, address: str) -> bool:
    """Whether a server that is allowed (host, host:port, with a database or without) covers an address."""
    host, _, base = place.strip().lower().partition("/")
    given, _, name = address.lower().partition("/")
    return (host in (given, given.partition(":")[0])) and base in ("", name)


def _to_do(place: str) -> str:
    return f"An admin allows it with `metrikon places allow {place}`."
