"""Addresses of databases that an earlier version kept in the texts of flows: each moves into a connection, and its secret is taken out of every version."""

from __future__ import annotations

import logging
import re
from typing import Any
from urllib.parse import unquote

import msgspec
from sqlalchemy import Connection, make_url
from sqlalchemy.exc import ArgumentError

from metrikon.connections.sealing import Sealing
from metrikon.core.flows.connecting import DATABASES, Way
from metrikon.ports.clock import Clock
from metrikon.store import connections, flows
from metrikon.store.database import Database

log = logging.getLogger("metrikon.upgrade")
_SAID = re.compile(
    r"""(?P<mark>["']?)\burl(?P=mark)(?P<colon>\s*:\s*)(?P<quote>["']?)(?P<url>(?:postgresql|postgres|mysql|mariadb)(?:\+\w+)?://[^\s"',}]+)(?P=quote)"""
)
_FAMILIES = {"postgres": "postgresql", "mysql": "mariadb"}


class AddressesMoved:
    """Looks through the versions of all flows once, when a service starts; there is nothing to do after the first time."""

    def __init__(self, database: Database, clock: Clock, sealing: Sealing) -> None:
        self._database, self._clock, self._sealing = database, clock, sealing

    def carry_out(self) -> int:
        """How many versions were changed. A run that goes on in one of them finds its table by the connection."""
        with self._database.reading() as connection:
            found = [each for each in flows.texts_with(connection, "://") if _SAID.search(each[2])]
        if not found:
            return 0
        return self._database.write(lambda connection: self._move(connection, found))

    def _move(self, connection: Connection, found: list[tuple[str, int, str]]) -> int:
        names: dict[str, str] = {}
        for flow, version, text in found:

            def put(match: re.Match[str]) -> str:
                name = names.get(match["url"]) or self._kept(connection, match["url"])
                if not name:
                    return match.group()
                names[match["url"]] = name
                return f"{match['mark']}connection{match['mark']}{match['colon']}{match['quote']}{name}{match['quote']}"

            changed = _SAID.sub(put, text)
            if changed == text:
                log.error("the flow %s, version %s, holds the address of a database that cannot be read; correct it", flow, version)
                continue
            flows.reword(connection, flow, version, changed)
            log.info("the address of a database in the flow %s, version %s, is now in the connection it names", flow, version)
        return len(found)

    def _kept(self, connection: Connection, url: str) -> str:
        """The name of the connection that stands for an address; nothing for one that cannot be read."""
        try:
            given = make_url(url)
        except ArgumentError:
            return ""
        scheme = _FAMILIES.get(given.get_backend_name(), given.get_backend_name())
        if scheme not in DATABASES or not given.host or not given.database or not given.username:
            return ""
        address = f"{scheme}://{given.host}{f':{given.port}' if given.port else ''}/{given.database}"
        name = _free(connection, given.database, address, str(given.username))
        row: dict[str, Any] = {
            "name": name,
            "address": address,
            "way": msgspec.json.encode(Way("basic", str(given.username))),
            "probe": "",
            "put_at": self._clock.now(),
            "put_by": "upgrade",
            "tested_at": None,
            "told": "It was made by an upgrade, from an address in a flow. Test it.",
            "failing_since": None,
        }
        connections.put(connection, {**row, "sealed": self._sealing.seal(unquote(str(given.password or "")), name)})
        return name


def _free(connection: Connection, base: str, address: str, user: str) -> str:
    """A name for a connection that is not taken by another one."""
    wanted = re.sub(r"[^a-z0-9_]+", "_", base.lower()).strip("_")[:30] or "database"
    wanted = wanted if wanted[0].isalpha() else f"db_{wanted}"
    for number in range(1, 1000):
        name = wanted if number == 1 else f"{wanted}_{number}"
        row = connections.get(connection, name)
        if row is None or (row["address"] == address and msgspec.json.decode(row["way"], type=Way).user == user):
            return name
    raise ValueError("too many connections of one name")
