"""What commands share: how they reach the service, and how they print."""

from __future__ import annotations

import argparse
import getpass
import os
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any, TextIO

import msgspec

from metrikon.app.settings import BadSetting, Settings, from_environment
from metrikon.cli.given import CommandFailed as CommandFailed
from metrikon.client import Client
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.core.values.near import closest
from metrikon.store.own import DATABASE

ALIKE = 0.8  # how alike the names of two folders are (difflib) where one is likely a slip for the other: metrikon-dat, metrikon-data
LOCAL = "local.json"  # in the service's folder: its address and a token, readable by its owner only


def reaching(parser: argparse.ArgumentParser) -> None:
    """Options of commands that speak to a service."""
    group = parser.add_argument_group("the service")
    group.add_argument("--url", help="its address (or METRIKON_URL); by default that of the service whose folder is --home")
    group.add_argument("--token", help="a token (or METRIKON_TOKEN); by default the one kept in --home")
    group.add_argument("--home", type=Path, default=None, help="the service's folder (or METRIKON_HOME; default metrikon-data)")
    parser.add_argument("--json", action="store_true", help="print JSON for programs")


def client(given: argparse.Namespace) -> Client:
    """The service that a command is for."""
    url, token = given.url or os.environ.get("METRIKON_URL", ""), given.token or os.environ.get("METRIKON_TOKEN", "")
    home = given.home or Path(os.environ.get("METRIKON_HOME", "metrikon-data"))
    if not url or not token:
        try:
            local = loads((home / LOCAL).read_bytes())
        except (OSError, ValueError):
            local = {}
        url, token = url or local.get("url", ""), token or local.get("token", "")
    if not url:
        message = f"No service is known: {home / LOCAL} is not there. Start one with `metrikon serve --home {home}`, or give --url and --token."
        raise CommandFailed(message, 4)
    return Client(url, token, language=language(), person=person())


def person() -> str:
    """Who sits at the command: METRIKON_PERSON, else the name by which they are signed in to this machine."""
    try:
        return os.environ.get("METRIKON_PERSON") or getpass.getuser()
    except (OSError, KeyError):  # a user without a name
        return ""


def begun(home: Path, *, new: bool = True, sure: bool = False) -> str:
    """What is to be told of the folder of a service before it is opened: nothing where one is there, else that one is begun. `new`: whether one may be begun.

    Raises `CommandFailed` where none may, and where a folder beside it has one and nearly the same name: that one is meant, most likely, unless one is `sure`.
    """
    if (home / DATABASE).exists():
        return ""
    place = home.resolve()
    if not new:
        raise CommandFailed(f"There is no service in {place}. Give the folder of one with --home, or its address with --url and --token.", 2)
    beside = [each.parent.name for each in place.parent.glob(f"*/{DATABASE}")] if place.parent.is_dir() else []
    near = closest(place.name, beside, ALIKE)
    if near is not None and not sure:
        raise CommandFailed(
            f"There is no service in {place}, but there is one in {place.parent / near}. Is that one meant? To begin a new one, say --new.", 2
        )
    return f"A new service is begun in {place}."


def language() -> str:
    """The language of the terminal as HTTP names it, such as de-AT; empty where none is set."""
    told = next((os.environ[name] for name in ("LC_ALL", "LC_NUMERIC", "LANG") if os.environ.get(name)), "")
    name = told.partition(".")[0].replace("_", "-")
    return name if name[:2].isalpha() and name not in ("C", "POSIX") else ""


def print_json(value: Any, out: TextIO) -> None:
    """A value as JSON, every digit kept."""
    print(msgspec.json.format(dumps(value), indent=1).decode(), file=out)


def table(rows: list[list[str]], heads: list[str], out: TextIO) -> None:
    """Rows under their heads, in columns as wide as they need to be."""
    shown = [[str(cell).replace("\n", " ") for cell in row] for row in rows]
    widths = [min(60, max(len(row[n]) for row in [heads, *shown])) for n in range(len(heads))]
    for row in [heads, *shown]:
        cells = [cell if len(cell) <= width else cell[: width - 1] + "…" for cell, width in zip(row, widths, strict=True)]
        print("  ".join(cell.ljust(width) for cell, width in zip(cells, widths, strict=True)).rstrip(), file=out)


def when(milliseconds: int | None) -> str:
    """A time as people write it, in their zone."""
    return datetime.fromtimestamp(milliseconds / 1000).astimezone().strftime("%Y-%m-%d %H:%M:%S") if milliseconds else ""


def as_minutes(seconds: float) -> str:
    """How long something takes, as minutes and seconds: 62:05."""
    return f"{int(seconds) // 60}:{int(seconds) % 60:02}"


def what_went_out(delivery: dict[str, Any]) -> str:
    """One thing that a run has sent out: what it is, where, and by which step."""
    return f"{delivery['kind']} to {delivery['receipt'] or delivery['target']} ({delivery['path']})"


def how_it_stands(delivery: dict[str, Any]) -> str:
    """How a thing that was sent out stands, with what differs and why."""
    told = " ".join(each for each in (delivery["told"], delivery["error"] or "") if each)
    stands = STANDS.get(delivery["state"], delivery["state"])
    if delivery["state"] == "taken back" and delivery["mark"]:
        stands += f"; the row stays, with {delivery['mark']}"
    return f"{stands}{'. ' + told if told else ''}"


STANDS = {
    "there": "there already",
    "otherwise": "there otherwise",
    "entered": "to be written",
    "returning": "to be taken back",
    "corrected": "corrected; it has another key now",
}


def plain(value: Any) -> str:
    """A value of a record as text."""
    return "" if value is None else f"{value:f}" if hasattr(value, "as_tuple") else str(value)


def settings_from(**given: Any) -> Settings:
    """Settings of the environment; values given here come before them. Raises `CommandFailed`."""
    try:
        found = from_environment(**given)
    except BadSetting as error:
        raise CommandFailed(str(error), 2) from error
    if found.model_url and not found.model_name:
        raise CommandFailed(f"Which model of {found.model_url} is asked? Give --model NAME (or METRIKON_MODEL_NAME), as that server names it.", 2)
    return found


def value_given(text: str) -> tuple[str, Any]:
    """A name or path and its value, of NAME=VALUE: in JSON, or a plain text. Raises `CommandFailed`."""
    name, value = pair_given(text)
    try:
        return name, loads(value)
    except NotJson:
        return name, value


def pair_given(text: str) -> tuple[str, str]:
    """A name or path and its value, of NAME=VALUE, as it was typed. Raises `CommandFailed`."""
    name, mark, value = text.partition("=")
    if not mark or not name:
        raise CommandFailed(f"{text!r} is no NAME=VALUE.", 2)
    return name, value


def spelled(value: Any) -> str:
    """A value as it was read: 1,784.00 where that is a number."""
    return f"{value:,f}" if isinstance(value, Decimal | int) and not isinstance(value, bool) else plain(value)
