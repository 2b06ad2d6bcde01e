"""The outside services of the demo: stand-ins on this machine, the connections to them, and the flows that use them."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from contextlib import contextmanager

from metrikon.app.assemble import App
from metrikon.connections.browser import installed
from metrikon.core.flows.connecting import Way
from metrikon.core.values.exact import dumps
from metrikon.demo import scenario
from metrikon.demo.laying import lay
from metrikon.sandbox import accounts, chat, records
from metrikon.sandbox.services import Services

BY = "demo"


@contextmanager
def outside(port: int) -> Iterator[Services]:
    """The stand-ins, while the demo runs."""
    logging.getLogger("werkzeug").setLevel(logging.WARNING)
    services = Services(port=port).start()
    try:
        yield services
    finally:
        services.stop()


def connect(app: App, services: Services) -> None:
    """Connections to the stand-ins, the flows that write there, and what these begin with."""
    app.connections.put("crm", f"{services.url}/records", Way("bearer"), records.TOKEN, BY, "contacts")
    app.describing.put("crm", dumps(records.DESCRIPTION))
    app.describing.note("crm", scenario.notes())
    app.connections.put("chat", services.url, Way("bearer"), chat.TOKEN, BY, f"{chat.API.strip('/')}/account/whoami")
    app.connections.put("accounts", f"{services.url}/accounts", Way("basic", accounts.USER), accounts.PASSWORD, BY)
    app.ways.put(scenario.way_in())
    for name in (scenario.TOURS, scenario.OLD_LEDGER):
        app.catalog.put_flow(scenario.flow(name))
    lay(app.home / "bookings", scenario.bookings())
    lay(app.home / "to-enter", scenario.to_enter() if installed() else ())
