"""lists: the known values that records are held against."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import client, print_json, reaching, table
from metrikon.cli.given import file_text


def add(commands: Any) -> None:
    """Add the commands."""
    lists = commands.add_parser("lists", help="known values that records are held against").add_subparsers(
        title="lists", metavar="ACTION", required=True
    )
    listing = lists.add_parser("list", help="every list")
    reaching(listing)
    listing.set_defaults(run=run_list)
    putting = lists.add_parser(
        "put",
        help="keep a list (CSV)",
        description="Keep a list in the place of the one before: a CSV with the known values in its first column; one that holds a comma stands in quotation marks. "
        "With several columns its first line holds their heads; a field with `lookup` takes its value from one of them.",
    )
    putting.add_argument("name")
    putting.add_argument("file", type=Path, help="the file, or - for the standard input")
    reaching(putting)
    putting.set_defaults(run=run_put)
    showing = lists.add_parser("show", help="a list as CSV")
    showing.add_argument("name")
    reaching(showing)
    showing.set_defaults(run=run_show)


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List the lists."""
    with client(given) as service:
        found = service.lists()
    if given.json:
        print_json(found, out)
    elif not found:
        print("There is no list yet. Keep one with `metrikon lists put NAME FILE`.", file=out)
    else:
        table([[each["name"], str(each["count"]), ", ".join(each["columns"])] for each in found], ["list", "values", "columns"], out)
    return 0


def run_put(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a list."""
    text = sys.stdin.read() if str(given.file) == "-" else file_text(given.file)
    with client(given) as service:
        found = service.put_list(given.name, text)
    if given.json:
        print_json(found, out)
    else:
        print(f"The list {found['name']} holds {found['count']} value{'s' if found['count'] != 1 else ''}{_columns(found['columns'])}.", file=out)
    return 0


def run_show(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Show a list."""
    with client(given) as service:
        found = service.list_of(given.name)
    if given.json:
        print_json(found, out)
    else:
        print(found["text"], end="", file=out)
    return 0


def _columns(heads: list[str]) -> str:
    return f", with {', '.join(heads[1:])} beside them" if heads else ""
