"""serve, people, tokens: run the service, and say who may come in."""

from __future__ import annotations

import argparse
import getpass
import logging
import os
import secrets
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.cli.common import LOCAL, CommandFailed, print_json, settings_from, table, when
from metrikon.cli.logs import log_to
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.drivers.rubbish import look_seldom
from metrikon.service.auth import add_token, set_password
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
    serving.set_defaults(run=run_serve)
    persons = commands.add_parser("people", help="who may sign in to the console").add_subparsers(title="people", metavar="ACTION", required=True)
    adding = persons.add_parser("add", help="add a person or change a password (the service must not be running)")
    adding.add_argument("name")
    adding.add_argument("--home", type=Path)
    adding.add_argument("--password-stdin", action="store_true", help="read the password from standard input")
    adding.set_defaults(run=run_person)
    tokens = commands.add_parser("tokens", help="what programs may come in with").add_subparsers(title="tokens", metavar="ACTION", required=True)
    making = tokens.add_parser("add", help="make a token; its secret is printed once (the service must not be running)")
    making.add_argument("name")
    making.add_argument("--home", type=Path)
    making.add_argument("--json", action="store_true")
    making.set_defaults(run=run_token)
    listing = tokens.add_parser("list", help="tokens without their secrets (the service must not be running)")
    listing.add_argument("--home", type=Path)
    listing.set_defaults(run=run_tokens)


def opened(settings: Settings) -> App:
    """The house, or a message for people."""
    try:
        return App(settings)
    except (AlreadyOpen, StoreFailed) as error:
        raise CommandFailed(str(error)) from error
    except OSError as error:
        raise CommandFailed(f"{settings.home} cannot be used: {error.strerror or error}.") from error


def run_serve(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Run the service until it is stopped."""
    log_to(err, logging.INFO, "%(asctime)s %(levelname)s %(name)s: %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    logging.getLogger("alembic").setLevel(logging.WARNING)
    settings = settings_from(home=given.home, host=given.host, port=given.port, model_url=given.model_url, model_name=given.model)
    app = opened(settings)
    run_server(app, lambda server: _greet(app, server, out))
    return 0


def run_server(app: App, ready: Callable[[Server], None]) -> None:
    """Serve a house until a signal comes; `ready` is called when it answers."""
    look_seldom(SELDOM)
    try:
        server = Server(app)
    except OSError as error:
        app.close()
        where = f"{app.settings.host}:{app.settings.port}"
        raise CommandFailed(f"{where} cannot be listened on: {error.strerror}. Is another service running? Give another --port.") from error
    local_access(app, server.url)
    server.run(lambda: ready(server))


def _greet(app: App, server: Server, out: TextIO) -> None:
    print(f"Metrikon is ready: {server.url}", file=out, flush=True)
    with app.database.reading() as connection:
        if not people.any_people(connection):
            print("Nobody can sign in yet. Stop it and run `metrikon people add NAME`.", file=out, flush=True)


def local_access(app: App, url: str) -> None:
    """Keep the address and a token in the service's folder, for commands on the same machine."""
    path = app.home / LOCAL
    try:
        token = str(loads(path.read_bytes())["token"])
        with app.database.reading() as connection:
            known = people.token_name(connection, token) is not None
    except (OSError, NotJson, KeyError, TypeError):
        token, known = "", False
    if not known:
        _, token = add_token(app, "this machine")
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(dumps({"url": url, "token": token}))


def run_person(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Add a person."""
    app = opened(settings_from(home=given.home))
    try:
        if given.password_stdin:
            password = sys.stdin.readline().rstrip("\n")
        elif sys.stdin.isatty():
            password = getpass.getpass("Password (empty: one is made): ")
        else:
            password = ""
        made = not password
        password = password or secrets.token_urlsafe(12)
        if len(password) < 8:
            raise CommandFailed("The password is too short: give at least 8 characters.", 2)
        set_password(app, given.name, password)
    finally:
        app.close()
    print(f"{given.name} can sign in{f' with the password {password}' if made else ''}.", file=out)
    return 0


def run_token(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Make a token."""
    app = opened(settings_from(home=given.home))
    try:
        token_id, secret = add_token(app, given.name)
    finally:
        app.close()
    print_json({"id": token_id, "secret": secret}, out) if given.json else print(f"{secret}\nKeep it: it is not shown again.", file=out)
    return 0


def run_tokens(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List tokens."""
    app = opened(settings_from(home=given.home))
    try:
        with app.database.reading() as connection:
            found: list[dict[str, Any]] = people.all_tokens(connection)
    finally:
        app.close()
    table([[row["id"], row["name"], when(row["created_at"]), when(row["used_at"])] for row in found], ["token", "name", "made", "last used"], out)
    return 0
