"""Addresses of intakes that things are sent to: each has one of its own that cannot be guessed, and a secret, sealed like all others."""

from __future__ import annotations

import base64
import secrets
from dataclasses import dataclass
from typing import Any

from metrikon.connections.sealing import CannotOpen
from metrikon.core.flows.model import Flow, Said
from metrikon.engine.catalog import Catalog
from metrikon.engine.connecting import Connections
from metrikon.engine.refusing import NotThere
from metrikon.engine.taking import Taking
from metrikon.store import flows, intakes
from metrikon.store.database import Database


@dataclass(frozen=True)
class Sent:
    """An intake that something is sent to; whether its flow is switched on."""

    flow: Flow
    said: Said
    secret: str
    running: bool


class Addresses:
    """Makes addresses and finds the intakes behind them."""

    def __init__(self, database: Database, catalog: Catalog, taking: Taking, connections: Connections) -> None:
        self._database, self._catalog, self._taking, self._connections = database, catalog, taking, connections

    def make(self, flow: Flow, said: Said, secret: str = "", *, fresh: bool = False) -> tuple[str, str]:
        """(address, secret) of an intake: a new secret each time, or the given one; the address stays unless a `fresh` one is wanted."""
        row = self._taking.row(flow, said)
        address = row["address"] if row["address"] and not fresh else secrets.token_urlsafe(24)
        chosen = secret or "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()
        self._connections.seal_along(
            chosen,
            _of(flow.name, said.name),
            lambda connection, sealed: intakes.change(connection, flow.name, said.name, address=address, sealed=sealed),
        )
        return address, chosen

    def address(self, flow: Flow, said: Said) -> str:
        """The address of an intake, made when it has none. Its secret is made then as well, and is not told."""
        row = self._taking.row(flow, said)
        return str(row["address"]) if row["address"] else self.make(flow, said)[0]

    def find(self, address: str) -> Sent:
        """The intake that has an address. Raises `NotThere`, and `CannotOpen`."""
        with self._database.reading() as connection:
            row = intakes.at_address(connection, address)
            standing = flows.standing(connection, row["flow"]) if row is not None else None
        if row is None or standing is None:
            raise NotThere("There is nothing at this address.")
        flow = self._catalog.flow(row["flow"], standing[0])
        said = next((each for each in flow.intakes if each.name == row["name"]), None)
        if said is None:
            raise NotThere("There is nothing at this address any more.")
        return Sent(flow, said, self._secret(row), standing[1])

    def _secret(self, row: dict[str, Any]) -> str:
        if row["sealed"] is None:
            raise CannotOpen("This intake has no secret. Make one in Setup.")
        return self._connections.unsealed(bytes(row["sealed"]), _of(row["flow"], row["name"]))


def _of(flow: str, name: str) -> str:
    return f"intake {flow}/{name}"
