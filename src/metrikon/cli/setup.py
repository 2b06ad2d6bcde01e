"""flows, record-types, settings: put what the service works by."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.settings import PREFIX
from metrikon.app.settings import table as settings_table
from metrikon.cli import carrying, language
from metrikon.cli.common import CommandFailed, client, print_json, reaching, settings_from, table, when
from metrikon.cli.given import file_text
from metrikon.cli.reading import read_file
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.records.starting import from_heads, from_row
from metrikon.core.records.wrong import wrong_with
from metrikon.core.values.exact import NotJson, loads
from metrikon.drivers.starting import started
from metrikon.ports.reader import Refused


def add(commands: Any) -> None:
    """Add the commands."""
    flows = commands.add_parser("flows", help="check, put, list and switch flows").add_subparsers(title="flows", metavar="ACTION", required=True)
    putting = flows.add_parser("put", help="check a flow (YAML) and keep it")
    putting.add_argument("file", type=Path)
    putting.add_argument("--why", default="", help="a word why, kept with the version")
    putting.add_argument("--on", action="store_true", help="its intakes that look outside take at once what is there, without a yes")
    putting.add_argument("--off", action="store_true", help="keep one that is new switched off, until somebody has looked what it would take")
    reaching(putting)
    putting.set_defaults(run=run_put_flow)
    showing = flows.add_parser("show", help="a flow as sentences, with what is wrong and what changed")
    showing.add_argument("name")
    showing.add_argument("--versions", action="store_true", help="what changed from version to version")
    reaching(showing)
    showing.set_defaults(run=language.run_show)
    language.add_check(flows)
    carrying.add(flows)
    listing = flows.add_parser("list", help="every flow in its newest version")
    reaching(listing)
    listing.set_defaults(run=run_list)
    for name, running, told in (
        ("on", True, "switch a flow on"),
        ("off", False, "switch a flow off: it takes nothing in"),
        ("pause", True, "pause a flow: what comes in waits, no run is worked on"),
    ):
        switching = flows.add_parser(name, help=told)
        switching.add_argument("name")
        reaching(switching)
        switching.set_defaults(run=run_switch, running=running, paused=name == "pause")
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
    checking = types.add_parser(
        "check",
        help="tell what is wrong with a record type; needs no service",
        description="Tell everything that is wrong with a record type (JSON Schema), with line and column; exit 1 when something is. Nothing is kept.",
    )
    checking.add_argument("file", type=Path)
    checking.add_argument("--json", action="store_true", help="print JSON")
    checking.set_defaults(run=run_check_type)
    kinds = types.add_parser("list", help="every record type with the flows it is used in")
    reaching(kinds)
    kinds.set_defaults(run=run_list_types)
    versions = types.add_parser("versions", help="all versions of a record type")
    versions.add_argument("name")
    reaching(versions)
    versions.set_defaults(run=run_versions)
    starting = types.add_parser(
        "start",
        help="a record type to begin with, from a sample, a row or heads",
        description="Write a record type to begin with (JSON Schema) to the standard output: from a sample document, an example row (a JSON object), "
        "or the heads of a sheet. It needs no service. Correct it, then put it.",
    )
    source = starting.add_mutually_exclusive_group(required=True)
    source.add_argument("--sample", type=Path, metavar="FILE", help="a document: which fields does it hold?")
    source.add_argument("--row", type=Path, metavar="FILE", help="a JSON object: an example row")
    source.add_argument("--heads", metavar="A,B,C", help="heads of a sheet, parted by commas, semicolons or tabs")
    starting.add_argument("--title", default="record", help="title of the record type (default: record)")
    starting.set_defaults(run=run_start_type)
    setting = commands.add_parser("settings", help="every setting, its default and what it does")
    setting.set_defaults(run=run_settings)


def run_put_flow(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a flow."""
    text = file_text(given.file)
    try:
        data = from_yaml(text)
    except NotYaml as error:
        raise CommandFailed(f"{given.file}: {error}", 2) from error
    name = data.get("name") if isinstance(data, dict) else None
    if not isinstance(name, str):
        raise CommandFailed(f"{given.file} is no flow: it has no `name`.", 2)
    with client(given) as service:
        kept = service.keep_flow(name, text, given.why, off=given.off, on=given.on)
        running = next((bool(each["running"]) for each in service.flows() if each["name"] == name), False)
    version, waits = kept["version"], kept["waits"] if running else []
    if given.json:
        print_json({"name": name, "version": version, "running": running, "waits": waits}, out)
        return 0
    print(f"Flow {name} is kept as version {version}.", file=out)
    for each in kept["places"]:
        print(each, file=out)
    tell_beforehand(name, waits, kept["told"], out)
    following = (
        f"see what it takes with `metrikon intakes list {name}`"
        if running
        else f"look with `metrikon intakes preview {name}`, then switch it on with `metrikon flows on {name}`"
    )
    print(f"It is {'on' if running else 'off'}; {following}.", file=out)
    return 0


def tell_beforehand(name: str, waits: list[str], told: list[str], out: TextIO) -> None:
    """What is to be told of a flow before it takes anything in."""
    for each in told:
        print(each, file=out)
    for each in waits:
        print(f"Its intake {each} looks outside and takes nothing until somebody says yes:", file=out)
        print(f"  metrikon intakes preview {name} {each}   shows what it would take, and the cost", file=out)
        print(f"  metrikon intakes yes {name} {each}       lets it take that", file=out)


def run_put_type(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a record type."""
    with client(given) as service:
        version = service.put_record_type(given.name, file_text(given.file))
    print_json({"name": given.name, "version": version}, out) if given.json else print(
        f"Record type {given.name} is kept as version {version}.", file=out
    )
    return 0


def run_check_type(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Check a record type."""
    problems = wrong_with(file_text(given.file))
    if given.json:
        print_json({"problems": [each.as_json() for each in problems]}, out)
        return 1 if problems else 0
    for each in problems:
        print(f"{given.file}:{each.line}:{each.column}: {each.place + ': ' if each.place else ''}{each.message}", file=out)
    print(f"{len(problems)} problem{'s' if len(problems) > 1 else ''}." if problems else "Nothing is wrong with it.", file=out)
    return 1 if problems else 0


def run_list_types(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List record types."""
    with client(given) as service:
        found = [{**each, "flows": [flow["flow"] for flow in service.touched_flows(each["name"])]} for each in service.record_types()]
    if given.json:
        print_json(found, out)
    else:
        table([[each["name"], str(each["version"]), ", ".join(each["flows"])] for each in found], ["record type", "version", "used in"], out)
    return 0


def run_versions(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List the versions of a record type."""
    with client(given) as service:
        found = service.record_type_versions(given.name)
    if given.json:
        print_json(found, out)
    else:
        table([[str(each["version"]), when(each["created_at"])] for each in found], ["version", "kept at"], out)
    return 0


def run_start_type(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Start a record type."""
    if given.heads is not None:
        schema = from_heads(_heads(given.heads), given.title)
    elif given.row is not None:
        try:
            row = loads(file_text(given.row))
        except NotJson as error:
            raise CommandFailed(f"{given.row} is no JSON: {error}.", 2) from error
        if not isinstance(row, dict):
            raise CommandFailed(f"{given.row} is no JSON object: an example row has names and values.", 2)
        schema = from_row(row, given.title)
    else:
        try:
            schema = started(read_file(given.sample, settings_from()), given.title)
        except Refused as error:
            raise CommandFailed(f"{given.sample} cannot be read. {error.reason}", 2) from error
    if not schema["properties"]:
        what = given.sample or given.row or "the heads"
        raise CommandFailed(
            f"Nothing was found in {what} that a field could be made of: no label with a value, and no table with heads. Give another one.", 2
        )
    print_json(schema, out)
    return 0


def _heads(text: str) -> list[str]:
    """Heads parted by commas, or as sheets of other countries part them: by semicolons or tabs, where no comma stands between."""
    mark = next((each for each in (",", ";", "\t") if each in text), ",")
    return text.split(mark)


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
        found = service.turn_flow(given.name, given.running, paused=given.paused)
    print(
        f"Flow {given.name} is {'paused: what comes in waits' if given.paused else 'on' if given.running else 'off: it takes nothing in'}.", file=out
    )
    tell_beforehand(given.name, found["waits"], found["told"], out)
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
