"""people, tokens, places: who may come in, and what flows may touch; while the service runs and while it does not."""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TextIO

import httpx

from metrikon.app.assemble import App
from metrikon.cli.common import CommandFailed, begun, client, person, print_json, reaching, settings_from, table, when
from metrikon.client import Client
from metrikon.connections.sealing import BadKey
from metrikon.service.auth import add_token
from metrikon.service.roles import ROLES
from metrikon.service.web import create
from metrikon.store import people
from metrikon.store.database import AlreadyOpen, StoreFailed


def add(commands: Any) -> None:
    """Add the commands."""
    persons = commands.add_parser("people", help="who may sign in to the console").add_subparsers(title="people", metavar="ACTION", required=True)
    adding = persons.add_parser(
        "add",
        help="let a person in, or change their password or role",
        description="Let a person in, or change their password or role. A new person is a reviewer, the first one an admin. "
        "Readers look; reviewers also decide at the desk and continue runs; builders also change flows; admins also let others in.",
    )
    adding.add_argument("name")
    adding.add_argument("--role", choices=ROLES[1:])
    adding.add_argument("--password-stdin", action="store_true", help="read the password from standard input")
    adding.add_argument("--new", action="store_true", help="begin a new service in --home, though one of nearly the same name is beside it")
    listing = persons.add_parser("list", help="everyone who may sign in")
    removing = persons.add_parser("remove", help="let a person in no more: their sessions end at once")
    removing.add_argument("name")
    tokens = commands.add_parser("tokens", help="what programs may come in with").add_subparsers(title="tokens", metavar="ACTION", required=True)
    making = tokens.add_parser("add", help="make a token; its secret is printed once")
    making.add_argument("name")
    making.add_argument("--role", choices=ROLES, default="builder", help="what it may do (default: builder); upload only sends things in")
    making.add_argument("--days", type=int, default=0, help="days after which it ends (default: never)")
    showing = tokens.add_parser("list", help="tokens without their secrets")
    dropping = tokens.add_parser("remove", help="forget a token: it opens nothing any more")
    dropping.add_argument("id")
    places = commands.add_parser("places", help="what flows may touch besides the folder of the service").add_subparsers(
        title="places", metavar="ACTION", required=True
    )
    allowing = places.add_parser("allow", help="let flows touch a folder, a file or a database server")
    allowing.add_argument("place", help="a whole path, or a server: db.garden.example:5432/ledger")
    allowing.add_argument("--why", default="", help="a word why")
    all_places = places.add_parser("list", help="what flows may touch besides the folder of the service")
    refusing = places.add_parser("refuse", help="let flows touch a place no longer")
    refusing.add_argument("place")
    every = (
        (adding, run_person),
        (listing, run_people),
        (removing, run_drop_person),
        (making, run_token),
        (showing, run_tokens),
        (dropping, run_drop_token),
        (allowing, run_allow),
        (all_places, run_places),
        (refusing, run_refuse),
    )
    for parser, run in every:
        reaching(parser)
        parser.set_defaults(run=run)


@contextmanager
def _reached(given: argparse.Namespace, err: TextIO | None = None) -> Iterator[Client]:
    """The service that a command is for; when it does not run here, its folder is opened and let go again. With `err` a new one may be begun, which is told there."""
    if given.url or os.environ.get("METRIKON_URL"):
        with client(given) as service:
            yield service
        return
    settings = settings_from(home=given.home)
    told = begun(settings.home, new=err is not None, sure=getattr(given, "new", False))
    if told and err is not None:
        print(told, file=err)
    try:
        app = App(settings)
    except AlreadyOpen:
        with client(given) as service:
            yield service
        return
    except (BadKey, StoreFailed) as error:
        raise CommandFailed(str(error)) from error
    except OSError as error:
        raise CommandFailed(f"{settings.home} cannot be used: {error.strerror or error}.") from error
    token_id, secret = add_token(app, "this command")
    try:
        with Client("http://here", secret, transport=httpx.WSGITransport(create(app)), person=person()) as service:
            yield service
    finally:
        app.database.write(lambda connection: people.drop_token(connection, token_id))
        app.close()


def run_person(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Let a person in."""
    password = _password(given, err)
    if password is not None and len(password) < 8:
        raise CommandFailed("The password is too short: give at least 8 characters.", 2)
    with _reached(given, err) as service:
        put = service.put_person(given.name, role=given.role, password=password)
    if given.json:
        print_json(put, out)
        return 0
    made = f" with the password {put['password']}" if put["password"] else ""
    print(f"{given.name} can sign in{made}, as {_with_article(str(put['role']))}.", file=out)
    return 0


def _password(given: argparse.Namespace, err: TextIO) -> str | None:
    """A password of the standard input, or that a person types; None: it stays, or one is made."""
    if given.password_stdin:
        return sys.stdin.readline().rstrip("\n")
    if sys.stdin.isatty():
        return getpass.getpass("Password (empty: it stays as it is, or one is made): ", err) or None
    return None


def _with_article(role: str) -> str:
    return f"{'an' if role[0] in 'aeiou' else 'a'} {role}"


def run_people(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List people."""
    with _reached(given) as service:
        found = service.people()
    if given.json:
        print_json(found, out)
    else:
        table([[each["name"], each["role"], when(each["created_at"])] for each in found], ["person", "role", "since"], out)
    return 0


def run_drop_person(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Let a person in no more."""
    with _reached(given) as service:
        service.drop_person(given.name)
    print(f"{given.name} can sign in no more.", file=out)
    return 0


def run_token(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Make a token."""
    with _reached(given, err) as service:
        made = service.add_token(given.name, given.role, given.days)
    if given.json:
        print_json(made, out)
    else:
        ends = f" It ends at {when(made['until'])}." if made["until"] else ""
        print(f"{made['secret']}\nKeep it: it is not shown again.{ends}", file=out)
    return 0


def run_tokens(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List tokens."""
    with _reached(given) as service:
        found = [each for each in service.tokens() if each["name"] != "this command"]
    if given.json:
        print_json(found, out)
        return 0
    rows = [[row["id"], row["name"], row["role"], when(row["created_at"]), when(row["used_at"]), when(row["until"])] for row in found]
    table(rows, ["token", "name", "role", "made", "last used", "ends"], out)
    return 0


def run_drop_token(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Forget a token."""
    with _reached(given) as service:
        service.drop_token(given.id)
    print("The token opens nothing any more.", file=out)
    return 0


def run_allow(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Allow a place."""
    with _reached(given, err) as service:
        place = service.allow_place(given.place, given.why)
    print(f"Flows may touch {place}.", file=out)
    return 0


def run_places(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List places."""
    with _reached(given) as service:
        found = service.places()
    if given.json:
        print_json(found, out)
    elif not found:
        print("Flows may touch the folder of the service alone. `metrikon places allow PLACE` allows more.", file=out)
    else:
        table([[each["place"], each["by"], when(each["at"]), each["why"]] for each in found], ["place", "allowed by", "at", "why"], out)
    return 0


def run_refuse(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Allow a place no longer."""
    with _reached(given) as service:
        service.refuse_place(given.place)
    print(f"Flows may touch {given.place} no longer; runs that would are parked.", file=out)
    return 0
