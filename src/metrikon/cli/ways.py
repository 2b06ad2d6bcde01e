"""ways: scripts by which records are typed into programs that have only a screen; kept, listed, tried up to the last press."""

from __future__ import annotations

import argparse
import base64
import json
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed, client, print_json, reaching, table
from metrikon.cli.given import file_bytes
from metrikon.core.values.exact import NotJson, loads
from metrikon.engine.ways import BadWay, way_in


def add(commands: Any) -> None:
    """Add the commands."""
    found = commands.add_parser("ways", help="ways in: how records are typed into programs that have only a screen").add_subparsers(
        title="ways in", metavar="ACTION", required=True
    )
    putting = found.add_parser(
        "put",
        help="check a way in (YAML) and keep it",
        description="Check a way in and keep it in a new version. All that is wrong with it is told at once. Its verbs: open, sign_in, fill, choose, press, "
        "expect, rows, attach, read_back. Showing one by hand is done in the console, under Setup.",
    )
    putting.add_argument("file")
    reaching(putting)
    putting.set_defaults(run=run_put)
    listing = found.add_parser("list", help="every way in in its newest version")
    reaching(listing)
    listing.set_defaults(run=run_list)
    trying = found.add_parser(
        "try",
        help="try a way in up to its last press, which is not done",
        description="Open the program, do everything up to the last press, and say what came of it. With --pictures the screens are kept in a folder. Exit 1 "
        "when it stopped before.",
    )
    trying.add_argument("name")
    trying.add_argument("values", help="a JSON file with what it takes")
    trying.add_argument("--pictures", type=Path, metavar="FOLDER", help="where the pictures of the screens are put")
    reaching(trying)
    trying.set_defaults(run=run_try)


def run_put(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a way in."""
    text = file_bytes(given.file).decode("utf-8", "replace")
    try:
        way = way_in(text)
    except BadWay as error:
        told = "\n".join(f"  {place}: {what}" if place else f"  {what}" for place, what in error.problems)
        raise CommandFailed(f"{given.file} is no way in that can be kept:\n{told}", 2) from error
    with client(given) as service:
        version = service.put_way(way.way, text)
    print_json({"way": way.way, "version": version}, out) if given.json else print(f"{way.way} is kept as version {version}.", file=out)
    return 0


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List ways in."""
    with client(given) as service:
        found = service.ways()
    if given.json:
        print_json(found, out)
        return 0
    rows = [
        [
            each["name"],
            str(each["version"]),
            each["connection"],
            ", ".join(each["takes"]),
            "" if each["looks_up"] else "does not look whether it is there",
        ]
        for each in found
    ]
    table(rows, ["name", "version", "into", "takes", ""], out) if rows else print(
        "There is no way in yet. Keep one with `metrikon ways put FILE`.", file=out
    )
    return 0


def run_try(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Try a way in."""
    try:
        values = loads(file_bytes(given.values))
    except NotJson as error:
        raise CommandFailed(f"{given.values} is no JSON: {error}.", 2) from error
    if not isinstance(values, dict):
        raise CommandFailed(f"{given.values} holds no names with values.", 2)
    with client(given) as service:
        found = service.try_way(given.name, values)
    pictures = found.pop("pictures")
    if given.pictures:
        given.pictures.mkdir(parents=True, exist_ok=True)
        for number, each in enumerate(pictures, 1):
            (given.pictures / f"{number:02d}.png").write_bytes(base64.b64decode(each["picture"].partition(",")[2]))
    if given.json:
        print(json.dumps({**found, "screens": [each["told"] for each in pictures]}, indent=2), file=out)
        return 1 if found["stopped"] else 0
    print(
        found["stopped"] or ("It is there already." if found["result"] == "there already" else "It went up to the last press, which was not done."),
        file=out,
    )
    for told in found["chosen"]:
        print(told, file=out)
    for label, shown in found["read"].items():
        print(f"{label} shows {shown}.", file=out)
    if given.pictures:
        print(f"{len(pictures)} pictures are in {given.pictures}.", file=out)
    return 1 if found["stopped"] else 0
