"""flows, record-types, settings: put what the service works by."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.settings import PREFIX
from metrikon.app.settings import table as settings_table
from metrikon.cli.common import CommandFailed, client, print_json, reaching, table
from metrikon.core.flows.text import NotYaml, from_yaml


def add(commands: Any) -> None:
    """Add the commands."""
    flows = commands.add_parser("flows", help="put, list and switch flows").add_subparsers(title="flows", metavar="ACTION", required=True)
    putting = flows.add_parser("put", help="check a flow (YAML) and keep it")
    putting.add_argument("file", type=Path)
    reaching(putting)
    putting.set_defaults(run=run_put_flow)
    listing = flows.add_parser("list", help="every flow in its newest version")
    reaching(listing)
    listing.set_defaults(run=run_list)
    for name, running in (("on", True), ("off", False)):
        switching = flows.add_parser(name, help=f"switch a flow {name}")
        switching.add_argument("name")
        reaching(switching)
        switching.set_defaults(run=run_switch, running=running)
    opening = flows.add_parser(
        "passwords",
        help="set the passwords that open encrypted files of a flow",
        description="Set the passwords that open encrypted PDFs and ZIP archives of a flow, in the place of those before. "
        "They are read from the standard input, one a line; no line forgets them. They are kept apart from the flow and never shown.",
    )
    opening.add_argument("name")
    reaching(opening)
    opening.set_defaults(run=run_passwords)
    types = commands.add_parser("record-types", help="put record types").add_subparsers(title="record types", metavar="ACTION", required=True)
    typing = types.add_parser("put", help="check a record type (JSON Schema) and keep it under a name")
    typing.add_argument("name")
    typing.add_argument("file", type=Path)
    reaching(typing)
    typing.set_defaults(run=run_put_type)
    setting = commands.add_parser("settings", help="every setting, its default and what it does")
    setting.set_defaults(run=run_settings)


def run_put_flow(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a flow."""
    text = _text(given.file)
    try:
        data = from_yaml(text)
    except NotYaml as error:
        raise CommandFailed(f"{given.file}: {error}", 2) from error
    name = data.get("name") if isinstance(data, dict) else None
    if not isinstance(name, str):
        raise CommandFailed(f"{given.file} is no flow: it has no `name`.", 2)
    with client(given) as service:
        version = service.put_flow(name, text)
    print_json({"name": name, "version": version}, out) if given.json else print(f"Flow {name} is kept as version {version}.", file=out)
    return 0


def run_put_type(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a record type."""
    with client(given) as service:
        version = service.put_record_type(given.name, _text(given.file))
    print_json({"name": given.name, "version": version}, out) if given.json else print(
        f"Record type {given.name} is kept as version {version}.", file=out
    )
    return 0


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List flows."""
    with client(given) as service:
        found = service.flows()
    if given.json:
        print_json(found, out)
    else:
        table([[f["name"], str(f["version"]), "on" if f["running"] else "off", f["about"]] for f in found], ["flow", "version", "", "about"], out)
    return 0


def run_switch(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Switch a flow."""
    with client(given) as service:
        service.switch_flow(given.name, given.running)
    print(f"Flow {given.name} is {'on' if given.running else 'off: it takes nothing in'}.", file=out)
    return 0


def run_passwords(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Set the passwords of a flow."""
    passwords = [line.rstrip("\r\n") for line in iter(lambda: _secret_line(err), "")]
    with client(given) as service:
        count = service.put_passwords(given.name, [each for each in passwords if each])
    if given.json:
        print_json({"flow": given.name, "count": count}, out)
    else:
        print(f"Flow {given.name} has {count} password{'s' if count != 1 else ''}. Runs that wait for one can be continued.", file=out)
    return 0


def _secret_line(err: TextIO) -> str:
    """A line of the standard input, not shown while it is typed; empty at the end."""
    if sys.stdin.isatty():
        return getpass.getpass("Password (empty to end): ", err)
    return sys.stdin.readline()


def run_settings(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Show every setting."""
    table([[PREFIX + name.upper(), default, text] for name, default, text in settings_table()], ["setting", "default", "what it does"], out)
    return 0


def _text(path: Path) -> str:
    try:
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise CommandFailed(f"{path} cannot be read: {error}", 2) from error
