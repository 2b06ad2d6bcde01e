"""connections: outside services with a way of signing in; made, tested, removed, their key changed."""

from __future__ import annotations

import argparse
import getpass
import io
import sys
from collections.abc import Mapping
from decimal import Decimal
from typing import Any, TextIO

from ruamel.yaml import YAML

from metrikon.cli.common import CommandFailed, client, print_json, reaching, table, when
from metrikon.cli.given import file_bytes
from metrikon.core.flows.connecting import WAYS
from metrikon.core.flows.text import NotYaml, from_yaml


def add(commands: Any) -> None:
    """Add the commands."""
    found = commands.add_parser("connections", help="outside services: address, way of signing in, secret; each can be tested").add_subparsers(
        title="connections", metavar="ACTION", required=True
    )
    putting = found.add_parser(
        "put",
        help="keep a connection, and test it",
        description="Keep a connection, and test it with a real call that changes nothing. The secret is asked for, or read from standard input with "
        "--secret-stdin; without one that before stays, as long as it goes to the same place. It is sealed, and never shown. "
        f"Ways of signing in: {'; '.join(f'{name}: {about}' for name, about in WAYS.items())}. Exit 1 when the test fails; it is kept all the same.",
    )
    putting.add_argument("name")
    putting.add_argument("address", help="such as https://plants.example/api; flows name what comes after it")
    putting.add_argument("--way", choices=tuple(WAYS), default="none", help="how one signs in (default: none)")
    putting.add_argument("--user", default="", help="of basic, or the id of an OAuth 2 client")
    putting.add_argument("--header", default="", metavar="NAME", help="of --way header")
    putting.add_argument("--parameter", default="", metavar="NAME", help="of --way query")
    putting.add_argument("--token-url", default="", metavar="URL", help="of --way client and consent")
    putting.add_argument("--consent-url", default="", metavar="URL", help="of --way consent: where a person consents")
    putting.add_argument("--scope", default="", help="of --way client")
    putting.add_argument("--probe", default="", metavar="PATH", help="what is asked for when it is tested, after its address")
    putting.add_argument("--secret-stdin", action="store_true", help="read the secret from standard input")
    putting.add_argument("--same-secret", action="store_true", help="leave the secret as it is")
    reaching(putting)
    putting.set_defaults(run=run_put)
    listing = found.add_parser("list", help="every connection, without secrets")
    reaching(listing)
    listing.set_defaults(run=run_list)
    testing = found.add_parser("test", help="make a real call that changes nothing, and say what it did")
    testing.add_argument("name")
    reaching(testing)
    testing.set_defaults(run=run_test)
    consenting = found.add_parser("consent", help="begin a person's consent: prints the address at which it is given in a browser")
    consenting.add_argument("name")
    reaching(consenting)
    consenting.set_defaults(run=run_consent)
    calling = found.add_parser("calls", help="the latest calls that were made by a connection, without what was sent")
    calling.add_argument("name")
    reaching(calling)
    calling.set_defaults(run=run_calls)
    holding = found.add_parser(
        "holds", help="what may be named of it: folders of a mailbox, tables of a database, records and operations of a service, files"
    )
    holding.add_argument("name")
    reaching(holding)
    holding.set_defaults(run=run_holds)
    describing = found.add_parser(
        "describe",
        help="give a connection the OpenAPI description of its service, or show it",
        description="Keep the OpenAPI description (3.0 or 3.1, JSON or YAML) of a connection's service: from a file, or had from the service itself. Without "
        "either it shows the operations that are known, and what follows from the notes. What is noted by nobody yet is suggested; look at it, then confirm it "
        "with `connections note`.",
    )
    describing.add_argument("name")
    describing.add_argument("file", nargs="?", help="the description")
    describing.add_argument("--at", default="", metavar="PATH", help="where the service gives it, after the address of the connection")
    reaching(describing)
    describing.set_defaults(run=run_describe)
    telling = found.add_parser(
        "operation",
        help="tell an operation of a service by hand, where no description has it",
        description="Tell one operation of a connection's service, in the place of one of its name: for a service without an OpenAPI description, or beside it. "
        "NAME:KIND is text, number, yes/no, date, 'date and time', list or context; NAME alone is text.",
    )
    telling.add_argument("name", help="the connection")
    telling.add_argument("operation", help="its name, such as makeTask")
    telling.add_argument("--call", default="", metavar="'METHOD /path'", help="how it is asked for, such as 'POST /tasks' or 'PATCH /tasks/{id}'")
    telling.add_argument("--about", default="", help="what it does, in a line")
    telling.add_argument("--takes", action="append", default=[], metavar="NAME:KIND", help="a value that it takes (may be given several times)")
    telling.add_argument("--needs", action="append", default=[], metavar="NAME:KIND", help="one that it must be given")
    telling.add_argument("--remove", action="store_true", help="know it no longer")
    reaching(telling)
    telling.set_defaults(run=run_operation)
    noting = found.add_parser(
        "note",
        help="confirm which operations make, find and set the records of a service",
        description="Keep the notes of a service: a YAML or JSON file with, for each kind of record, the operations that make it (create, or append for several "
        "in a call), find it, set it and give it files; the header by which a request is taken once; and within how many seconds what was made is found. What "
        "follows is told: a record that can be neither enforced nor found waits for a person when its writing was cut off.",
    )
    noting.add_argument("name")
    noting.add_argument("file")
    reaching(noting)
    noting.set_defaults(run=run_note)
    removing = found.add_parser("remove", help="keep a connection no longer; not while flows name it")
    removing.add_argument("name")
    reaching(removing)
    removing.set_defaults(run=run_remove)
    changing = found.add_parser("new-key", help="seal every secret with a new key")
    reaching(changing)
    changing.set_defaults(run=run_new_key)


def _secret(given: argparse.Namespace) -> str:
    """The secret of a connection, from standard input where that is said, else as a person types it. Raises `CommandFailed`."""
    if given.secret_stdin:
        return sys.stdin.read() if given.way == "certificate" else sys.stdin.readline().rstrip("\r\n")  # that of a certificate has several lines
    if not sys.stdin.isatty():
        raise CommandFailed("The secret cannot be asked for: there is no terminal. Give it on standard input, with --secret-stdin.", 2)
    return getpass.getpass("Secret: ")


def run_put(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a connection."""
    secret = _secret(given) if given.way != "none" and not given.same_secret else None
    more = {"sent_as": given.header or given.parameter, "token_url": given.token_url, "scope": given.scope, "consent_url": given.consent_url}
    with client(given) as service:
        found = service.put_connection(given.name, given.address, way=given.way, secret=secret, probe=given.probe, user=given.user, **more)
    return _told(given, found, out)


def run_test(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Test a connection."""
    with client(given) as service:
        found = service.test_connection(given.name)
    return _told(given, found, out)


def _told(given: argparse.Namespace, found: Mapping[str, Any], out: TextIO) -> int:
    if given.json:
        print_json(found, out)
    else:
        print(f"{found['name']}: {'it fails. ' if found['failing_since'] else ''}{found['told']}", file=out)
    return 1 if found["failing_since"] else 0


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Every connection."""
    with client(given) as service:
        found = service.connections()
    if given.json:
        print_json(found, out)
        return 0
    rows = [
        [
            each["name"],
            each["address"],
            each["way"]["kind"],
            f"fails since {when(each['failing_since'])}" if each["failing_since"] else "",
            each["told"],
        ]
        for each in found
    ]
    table(rows, ["name", "address", "way", "", "last told"], out) if rows else print(
        "There is no connection yet. Make one with `connections put`.", file=out
    )
    return 0


def run_consent(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Begin a consent."""
    with client(given) as service:
        url = service.begin_consent(given.name)
    print_json({"url": url}, out) if given.json else print(f"Open this in a browser, within ten minutes: {url}", file=out)
    return 0


def run_calls(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """The calls of a connection."""
    with client(given) as service:
        found = service.connection_calls(given.name)
    if given.json:
        print_json(found, out)
        return 0
    rows = [
        [when(each["at"]), each["flow"], each["method"], each["address"], str(each["status"] or ""), f"{each['took']} ms", each["error"]]
        for each in found
    ]
    table(rows, ["when", "flow", "", "address", "answer", "took", ""], out) if rows else print("No call was made by it yet.", file=out)
    return 0


def run_holds(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """What a connection's place holds."""
    with client(given) as service:
        found = service.held_names(given.name)
    if given.json:
        print_json(found, out)
        return 0
    rows = [[each["kind"], each["name"], each["about"]] for each in found]
    table(rows, ["", "name", ""], out) if rows else print("It holds nothing that a flow names.", file=out)
    return 0


def run_remove(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a connection no longer."""
    with client(given) as service:
        service.remove_connection(given.name)
    print_json({"removed": given.name}, out) if given.json else print(f"{given.name} is kept no longer.", file=out)
    return 0


def run_new_key(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Seal every secret anew."""
    with client(given) as service:
        count = service.new_key()
    print_json({"sealed": count}, out) if given.json else print(f"{count} secrets are sealed with a new key.", file=out)
    return 0


def run_describe(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Describe a service."""
    with client(given) as service:
        if given.file or given.at:
            data = file_bytes(given.file) if given.file else b""
            found = service.describe_connection(given.name, data, at=given.at)
        else:
            found = service.connection_description(given.name)
    return _described(given, found, out)


def run_operation(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell an operation by hand."""
    method, _, path = given.call.strip().partition(" ")
    if not given.remove and not path.strip():
        raise CommandFailed("Say how it is asked for: --call 'POST /tasks'.", 2)
    takes = [_value(each, wanted=wanted) for wanted, some in ((True, given.needs), (False, given.takes)) for each in some]
    told = {"method": method.upper(), "path": path.strip(), "about": given.about, "takes": takes}
    with client(given) as service:
        found = service.remove_operation(given.name, given.operation) if given.remove else service.tell_operation(given.name, given.operation, told)
    return _described(given, found, out)


def _value(said: str, *, wanted: bool) -> dict[str, Any]:
    name, _, kind = said.partition(":")
    return {"name": name.strip(), "kind": kind.strip() or "text", "wanted": wanted}


def run_note(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep notes."""
    try:
        notes = from_yaml(file_bytes(given.file).decode("utf-8", "replace"))
    except NotYaml as error:
        raise CommandFailed(f"{given.file}: {error}", 2) from error
    if not isinstance(notes, dict):
        raise CommandFailed(f"{given.file} holds no notes: it has an entry `records`.", 2)
    with client(given) as service:
        found = service.note_connection(given.name, notes)
    return _described(given, found, out)


def _described(given: argparse.Namespace, found: dict[str, Any], out: TextIO) -> int:
    if given.json:
        print_json(found, out)
        return 0
    print(f"{found['title']} {found['version']}, {len(found['operations'])} operations", file=out)
    rows = [[each["name"], f"{each['method']} {each['path']}", each["about"]] for each in found["operations"]]
    table(rows, ["operation", "call", "what it does"], out)
    if found["notes"]:
        print(f"\nNotes{', suggested: look at them, then confirm them with `metrikon connections note`' if found['suggested'] else ''}:", file=out)
        print(yaml_text(found["notes"]), file=out)
    for name, follows in found["follows"].items():
        print(f"{name}: {_FOLLOWS[follows['can']]}{f' At most {most} in a call.' if (most := follows['most']) > 1 else ''}", file=out)
    return 0


_FOLLOWS = {
    "enforces": "the service takes each record once by itself.",
    "finds": "what was written is looked for before it is written again.",
    "neither": "a record whose writing was cut off waits for a person.",
}


def _yaml_able(value: Any) -> Any:
    """Plain data with the numbers that YAML knows."""
    if isinstance(value, dict):
        return {name: _yaml_able(each) for name, each in value.items()}
    if isinstance(value, list):
        return [_yaml_able(each) for each in value]
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    return value


def yaml_text(value: Any) -> str:
    """Plain data as YAML."""
    out = io.StringIO()
    yaml = YAML(typ="safe", pure=True)
    yaml.default_flow_style = False
    yaml.dump(_yaml_able(value), out)
    return out.getvalue().rstrip()
