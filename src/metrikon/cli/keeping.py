"""keeping and forget: what is kept for how long, and what is removed on request."""

from __future__ import annotations

import argparse
from collections import Counter
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed, client, print_json, reaching, table, when
from metrikon.core.values.exact import dumps


def add(commands: Any) -> None:
    """Add the commands."""
    keeping = commands.add_parser(
        "keeping",
        help="what is kept for how long, and what would be removed now",
        description="Tell what would be removed now, by the settings keep_files_days, keep_results_days, keep_calls_days and keep_journals_days. "
        "Nothing is removed without --yes; the service does it every hour by itself.",
    )
    keeping.add_argument("--yes", action="store_true", help="remove it now")
    reaching(keeping)
    keeping.set_defaults(run=run_keeping)
    forgetting = commands.add_parser(
        "forget",
        help="forget everything about an item, or about all items that hold a value",
        description="Forget everything about an item, or about all items that hold a value, such as the name of a person: files, records, results, "
        "journals, what models were asked. Nothing is removed without --yes. Rows that were written elsewhere are told, and stay.",
    )
    forgetting.add_argument("--item", default="", help="an item, by its id")
    forgetting.add_argument("--value", default="", help="a value: all items in whose file, records or results it stands")
    forgetting.add_argument("--yes", action="store_true", help="forget them, for good")
    forgetting.add_argument("--proof", type=Path, metavar="FILE", help="write the proof to this file (JSON)")
    forgetting.add_argument("--list", action="store_true", help="what was forgotten before")
    reaching(forgetting)
    forgetting.set_defaults(run=run_forget)


def run_keeping(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell what is due, or remove it."""
    with client(given) as service:
        found = service.remove_due() if given.yes else service.due()
    if given.json:
        print_json(found, out)
        return 0
    rows = [[each["what"], f"{each['days']} days" if each["days"] else "for good", str(each["count"]), _size(each["bytes"])] for each in found]
    table(rows, ["what", "kept", "removed" if given.yes else "would go", "bytes"], out)
    return 0


def _size(count: int) -> str:
    return f"{count / 1e6:.1f} MB" if count >= 100_000 else str(count or "")


def run_forget(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell what would be forgotten, or forget it."""
    if given.list:
        return _list(given, out)
    if bool(given.item) == bool(given.value):
        raise CommandFailed("Give either --item or --value.", 2)
    with client(given) as service:
        found = service.forget(item=given.item, value=given.value)
        if given.yes and (found["items"] or found["besides"]):
            found = service.forget(item=given.item, value=given.value, count=len(found["items"]))
    if given.proof and found["proof"]:
        given.proof.write_bytes(dumps(found))
    if given.json:
        print_json(found, out)
    elif not found["items"] and not found["besides"]:
        print("Nothing that is kept holds it.", file=out)
    elif found["proof"] is None:
        print(f"{_items(len(found['items']))} would be forgotten:" if found["items"] else "No item holds it.", file=out)
        print("".join(f"  {each}\n" for each in found["items"]), end="", file=out)
        for what, count in found["besides"].items():
            print(f"It stands in {what} ({count}), besides items. That would go, too.", file=out)
        print("Forget them, for good, with --yes.", file=out)
    else:
        _tell(found, out)
    return 0 if not found["proof"] or not found["proof"]["found_again"] else 1


def _items(count: int) -> str:
    return f"{count} item{'' if count == 1 else 's'}"


def _tell(found: dict[str, Any], out: TextIO) -> None:
    proof = found["proof"]
    print(f"{_items(len(found['items'])) + ' forgotten' if found['items'] else 'Forgotten'}; the proof is {found['id']}.", file=out)
    removed = {"files": len(proof["files"]), **proof["removed"]}
    print(f"Removed: {', '.join(f'{what}: {count}' for what, count in removed.items() if count)}.", file=out)
    for place, count in Counter(each["destination"] for each in proof["elsewhere"]).items():
        print(f"{count} rows stand in {place}: they are not ours to remove.", file=out)
    for each in proof["also_in"]:
        print(f"It stands in {each} as well, and was left there.", file=out)
    again = ", ".join(proof["found_again"])
    looked = ", ".join(f"{what}: {count}" for what, count in proof.get("searched", {}).items())
    print(f"Looked for again ({looked or 'in the folder of the service'}): {f'found in {again}' if again else 'not found'}.", file=out)


def _list(given: argparse.Namespace, out: TextIO) -> int:
    with client(given) as service:
        found = service.forgotten()
    if given.json:
        print_json(found, out)
    elif not found:
        print("Nothing was forgotten on request yet.", file=out)
    else:
        table([[each["id"], when(each["at"]), each["by"], _items(len(each["proof"]["items"]))] for each in found], ["proof", "at", "by", "what"], out)
    return 0
