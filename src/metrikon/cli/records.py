"""records: list, show, approve, refuse."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from itertools import islice
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed, client, how_it_stands, plain, print_json, reaching, spelled, table, what_went_out, when
from metrikon.client import Record
from metrikon.core.records.pointers import leaves
from metrikon.core.values.exact import NotJson, loads


def add(commands: Any) -> None:
    """Add the commands."""
    records = commands.add_parser("records", help="list, show, approve and refuse records").add_subparsers(
        title="records", metavar="ACTION", required=True
    )
    listing = records.add_parser("list", help="records, newest first")
    listing.add_argument(
        "--state",
        default="",
        help="only these, parted by commas: waits clear approved refused read replaced; without any, all but those that a later run has replaced",
    )
    listing.add_argument("--record-type", default="")
    listing.add_argument("--search", default="", help="part of a value or file name")
    listing.add_argument("--most", type=int, default=50)
    reaching(listing)
    listing.set_defaults(run=run_list)
    showing = records.add_parser("show", help="one record with the evidence of every value")
    showing.add_argument("id")
    reaching(showing)
    showing.set_defaults(run=run_show)
    approving = records.add_parser("approve", help="approve a record that waits; its rows are then written")
    approving.add_argument("id")
    approving.add_argument("--set", action="append", default=[], metavar="FIELD=VALUE", help="correct a value first, e.g. --set total=499.36")
    approving.add_argument("--values", type=Path, metavar="FILE.json", help="the whole corrected record")
    approving.add_argument("--comment", default="")
    reaching(approving)
    approving.set_defaults(run=run_approve)
    correcting = records.add_parser(
        "correct",
        help="correct a record after it was written, and what came of it",
        description="Correct a record that was approved, or needed nobody. What came of it is told; with --yes the record is changed, and a new run sets "
        "what came of it right, or asks where it cannot be set.",
    )
    correcting.add_argument("id")
    correcting.add_argument("--set", action="append", default=[], metavar="FIELD=VALUE", help="a corrected value, e.g. --set lines/0/quantity=2")
    correcting.add_argument("--values", type=Path, metavar="FILE.json", help="the whole corrected record")
    correcting.add_argument("--comment", default="", help="why; kept with the record")
    correcting.add_argument("--yes", action="store_true", help="do it")
    reaching(correcting)
    correcting.set_defaults(run=run_correct)
    refusing = records.add_parser("refuse", help="refuse a record that waits; nothing of it is written")
    refusing.add_argument("id")
    refusing.add_argument("--comment", required=True, help="why")
    reaching(refusing)
    refusing.set_defaults(run=run_refuse)


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List records."""
    with client(given) as service:
        found = list(islice(service.records(record_type=given.record_type, state=given.state, search=given.search), given.most))
    if given.json:
        print_json([asdict(each) for each in found], out)
    elif not found:
        print("There are no such records.", file=out)
    else:
        rows = [[each.id, each.state, each.title, each.item_name, _first(each)] for each in found]
        table(rows, ["record", "state", "what", "file", "finding"], out)
    return 0


def _first(record: Record) -> str:
    return next((str(each["message"]) for each in record.findings), "")


def run_show(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Show a record."""
    with client(given) as service:
        record = service.record(given.id)
    if given.json:
        print_json(asdict(record), out)
    else:
        _show(record, out)
    return 0


def _show(record: Record, out: TextIO) -> None:
    print(f"{record.title} ({record.state}), {record.item_name}, read by {record.model}\n", file=out)
    rows = []
    for pointer, value in leaves(record.values):
        given = record.evidence.get(pointer, {})
        where = f"page {given['page']}: {given['quote']}" if given.get("page") else str(given.get("how", ""))
        rows.append([pointer[1:], plain(value), where])
    table(rows, ["field", "value", "evidence"], out)
    for each in record.findings:
        print(f"{each['level']}: {each['message']}", file=out)
    for each in record.before:
        print(f"corrected by {each['by']}, {when(each['at'])}{': ' + each['comment'] if each['comment'] else ''}", file=out)
    for each in record.deliveries:
        print(f"{what_went_out(each)}: {how_it_stands(each)}", file=out)


def run_approve(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Approve a record, corrected if values are given."""
    with client(given) as service:
        before = service.record(given.id).values
        values = _values(given, before)
        looked = service.check(given.id, before if values is None else values)
        if values is not None and not given.json:
            _read_back(before, looked["values"], out)
        stopped = [str(each["message"]) for each in looked["findings"] if each["level"] == "stop"]
        if stopped and not given.comment:
            raise CommandFailed(
                f"It is still stopped: {' '.join(stopped)} Correct it with --set, or say with --comment why it is approved all the same.", 2
            )
        record = service.approve(given.id, values, given.comment)
    print_json(asdict(record), out) if given.json else print(f"{record.title} is approved; its rows are being written.", file=out)
    return 0


def run_correct(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Correct a record that was written."""
    with client(given) as service:
        before = service.record(given.id).values
        values = _values(given, before)
        if values is None:
            raise CommandFailed("Give what is corrected: --set FIELD=VALUE, or --values FILE.json.", 2)
        found = service.correct(given.id, values, given.comment, yes=given.yes)
    if given.json:
        print_json(found, out)
        return 0
    _read_back(before, found["values"], out)
    for each in found["came"]:
        print(f"{what_went_out(each['delivery'])}: {WILL[each['will']]}.", file=out)
    if not found["came"]:
        print("Nothing was written of it yet.", file=out)
    if not given.yes:
        print("Correct it with --yes.", file=out)
    elif found["run_id"]:
        print(f"Run {found['run_id']} sets it right; see it with `metrikon runs show {found['run_id']}`.", file=out)
    return 0


WILL = {"set": "to be set where it differs", "ask": "a person is to be asked, since it cannot be set from here"}


def _read_back(before: dict[str, Any], values: dict[str, Any], out: TextIO) -> None:
    """How what a person typed was read: 1,784.00 for 1.784, where the document writes thousands so."""
    standing = dict(leaves(before))
    for pointer, value in leaves(values):
        if standing.get(pointer) != value:
            print(f"{pointer[1:]} is now {spelled(value) or 'empty'}.", file=out)


def _values(given: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any] | None:
    if given.values:
        try:
            return dict(loads(given.values.read_bytes()))
        except (OSError, NotJson, TypeError, ValueError) as error:
            raise CommandFailed(f"{given.values} holds no record: {error}", 2) from error
    if not given.set:
        return None
    values = dict(before)
    for each in given.set:
        name, sign, text = each.partition("=")
        if not sign:
            raise CommandFailed(f"--set takes FIELD=VALUE, not {each!r}.", 2)
        _put(values, name.strip("/").split("/"), text, each)
    return values


def _put(values: Any, steps: list[str], text: str, whole: str) -> None:
    for step in steps[:-1]:
        try:
            values = values[int(step)] if isinstance(values, list) else values[step]
        except (KeyError, IndexError, ValueError, TypeError) as error:
            raise CommandFailed(f"--set {whole}: there is nothing at {step!r}.", 2) from error
    if not isinstance(values, dict):
        raise CommandFailed(f"--set {whole}: that is no field.", 2)
    values[steps[-1]] = _rows(text, whole) if isinstance(values.get(steps[-1]), list | dict) or text[:1] in ("[", "{") else text or None


def _rows(text: str, whole: str) -> Any:
    """What stands for a list or a record in JSON; its texts are read as if a person typed them. Raises `CommandFailed`."""
    try:
        return loads(text) if text else None
    except NotJson as error:
        raise CommandFailed(
            f'--set {whole}: it holds rows, which are given in JSON, such as \'[{{"amount": "12.00"}}]\'. This is no whole JSON.', 2
        ) from error


def run_refuse(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Refuse a record."""
    with client(given) as service:
        record = service.refuse(given.id, given.comment)
    print_json(asdict(record), out) if given.json else print(f"{record.title or record.id} is refused; nothing of it is written.", file=out)
    return 0
