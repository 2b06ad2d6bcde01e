"""serve: run the service."""

from __future__ import annotations

import argparse
import logging
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.assemble import App
from metrikon.app.settings import BadSetting, Settings, unknown_in
from metrikon.cli.common import LOCAL, CommandFailed, begun, settings_from
from metrikon.cli.logs import log_to
from metrikon.connections.sealing import BadKey
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.drivers.rubbish import look_seldom
from metrikon.drivers.surroundings import cut_off
from metrikon.service.auth import add_token
from metrikon.service.serving import Server
from metrikon.store import people
from metrikon.store.database import AlreadyOpen, StoreFailed

SELDOM = 20_000  # objects


def add(commands: Any) -> None:
    """Add the commands."""
    serving = commands.add_parser(
        "serve",
        help="run the service and its console",
        description="Run the service. Settings come from METRIKON_ variables (see `metrikon settings`); options come before them.",
    )
    serving.add_argument("--home", type=Path, help="folder of the database and files (default metrikon-data)")
    serving.add_argument("--host")
    serving.add_argument("--port", type=int)
    serving.add_argument("--model-url", metavar="URL", help="base URL of a chat-completions server; without one the pattern reader is used")
    serving.add_argument("--model", metavar="NAME", help="name of the model at that server")
    serving.add_argument("--new", action="store_true", help="begin a new service in --home, though one of nearly the same name is beside it")
    serving.set_defaults(run=run_serve)


def opened(settings: Settings) -> App:
    """The house, or a message for people."""
    try:
        return App(settings)
    except (AlreadyOpen, BadKey, StoreFailed) as error:
        raise CommandFailed(str(error)) from error
    except OSError as error:
        raise CommandFailed(f"{settings.home} cannot be used: {error.strerror or error}.") from error


def run_serve(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Run the service until it is stopped."""
    log_to(err, logging.INFO, "%(asctime)s %(levelname)s %(name)s: %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    logging.getLogger("alembic").setLevel(logging.WARNING)
    settings = settings_from(home=given.home, host=given.host, port=given.port, model_url=given.model_url, model_name=given.model)
    for wrong in unknown_in(os.environ):
        print(wrong, file=err, flush=True)
    if told := begun(settings.home, sure=given.new):
        print(told, file=err, flush=True)
    app = opened(settings)
    run_server(app, lambda server: _greet(app, server, out))
    return 0


def run_server(app: App, ready: Callable[[Server], None]) -> None:
    """Serve a house until a signal comes; `ready` is called when it answers."""
    look_seldom(SELDOM)
    try:
        server = Server(app)
    except BadSetting as error:
        app.close()
        raise CommandFailed(str(error), 2) from error
    except OSError as error:
        app.close()
        where = f"{app.settings.host}:{app.settings.port}"
        raise CommandFailed(f"{where} cannot be listened on: {error.strerror}. Is another service running? Give another --port.") from error
    local_access(app, server.url)
    server.run(lambda: ready(server))


def _greet(app: App, server: Server, out: TextIO) -> None:
    print(f"Metrikon is ready: {server.url}{f', and {server.secure_url}' if server.secure_url else ''}", file=out, flush=True)
    if not cut_off():
        print("Processes that read files could not be cut off from the network: this machine does not allow it.", file=out, flush=True)
    with app.database.reading() as connection:
        if not people.any_people(connection):
            print("Nobody can sign in yet. Run `metrikon people add NAME`.", file=out, flush=True)


def local_access(app: App, url: str) -> None:
    """Keep the address and a token in the service's folder, for commands on the same machine."""
    path = app.home / LOCAL
    try:
        token = str(loads(path.read_bytes())["token"])
        with app.database.reading() as connection:
            known = people.token_of(connection, token, app.clock.now()) is not None
    except (OSError, NotJson, KeyError, TypeError):
        token, known = "", False
    if not known:
        _, token = add_token(app, "this machine")
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(dumps({"url": url, "token": token}))
