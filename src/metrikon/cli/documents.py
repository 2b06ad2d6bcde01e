"""read and extract: work on one file, without a service."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, TextIO

import msgspec

from metrikon.app.models import models_of
from metrikon.cli.common import CommandFailed, plain, print_json, settings_from, table
from metrikon.cli.given import file_bytes
from metrikon.cli.reading import READABLE, passwords_in, read_together, refused, with_passwords
from metrikon.core.documents.model import Document
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.several import cut
from metrikon.core.extraction.settle import Reading
from metrikon.core.records import evidence, findings
from metrikon.core.records.checks import doubtful, doubts
from metrikon.core.records.confidence import UNATTENDED
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from metrikon.core.values.exact import NotJson, loads
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import Model, ModelDown, ModelRefused
from metrikon.ports.reader import Refused


def add(commands: Any) -> None:
    """Add the command."""
    taking = commands.add_parser(
        "extract",
        help="read a record from a file, with its evidence",
        description="Read a record from a file. Without --model-url the built-in pattern reader is used, which needs no language model. "
        "Exit 0 when nothing stops the record, 3 when a person must look, 2 when the file cannot be read.",
    )
    taking.add_argument("file", type=Path, help=READABLE)
    taking.add_argument("--record-type", type=Path, required=True, metavar="SCHEMA.json", help="a JSON Schema (2020-12)")
    taking.add_argument("--model-url", metavar="URL", help="base URL of a chat-completions server; its key comes from METRIKON_MODEL_KEY")
    taking.add_argument("--model", metavar="NAME", help="name of the model at that server")
    taking.add_argument(
        "--second-reading",
        nargs="?",
        const="",
        metavar="NAME",
        help="read yes/no and options a second time, by the same model or by another one of models.yaml; where the two differ a person must look",
    )
    taking.add_argument("--along", type=Path, action="append", default=[], metavar="FILE", help="read this file as one with it; may be given again")
    taking.add_argument("--only", type=int, metavar="N", help="read the Nth of several documents that the file holds")
    taking.add_argument("--context", default="", help="what the model should know besides")
    with_passwords(taking)
    taking.add_argument("--json", action="store_true", help="print record, evidence, findings and usage as JSON")
    taking.set_defaults(run=run_extract)


def run_extract(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Read a record from a file and show it."""
    settings = settings_from(model_url=given.model_url, model_name=given.model)
    kind = record_type_in(given.record_type)
    try:
        document = read_together([given.file, *given.along], settings, passwords_in(given.passwords))
    except Refused as error:
        return refused(given, error, out, err)
    document = document if given.only is None else _one_of(document, given.only)
    models = models_of(settings)
    try:
        model = models.by_name[models.default]
        again = None if given.second_reading is None else _named(models.by_name, given.second_reading or models.default)
        found = extract(model, kind, LocalPaper(Index(document)), date.today().isoformat(), given.context, second_reading=again)
    except (ModelDown, ModelRefused) as error:
        raise CommandFailed(str(error)) from error
    finally:
        models.close()
    reading = found.reading
    every = as_a_flow_would(kind, reading)
    if given.json:
        usage = {**found.usage.as_json(), "model": found.model, "changes": list(reading.changes)}
        shown = {
            "record": reading.record,
            "evidence": evidence.as_json(reading.evidence),
            "findings": findings.as_json(every),
            "usage": usage,
            "stages": [msgspec.to_builtins(each) for each in reading.stages],
        }
        print_json(shown, out)
    else:
        _show(found, every, out)
    return 3 if findings.stops(every) else 0


def as_a_flow_would(kind: RecordType, reading: Reading) -> list[Finding]:
    """The findings of a reading with those of values that a flow's check, where it says nothing else, would not let through."""
    told = {pointer for each in reading.findings for pointer in each.fields}
    return [*reading.findings, *doubtful(kind, reading.record, doubts(kind, reading.evidence), UNATTENDED, told)]


def _one_of(document: Document, number: int) -> Document:
    """One of several documents within another, counted from 1."""
    held = document.documents
    if not held and number == 1:
        return document
    if not 1 <= number <= len(held):
        raise CommandFailed(f"The file holds {len(held) or 'one'} document{'s' if len(held) > 1 else ''}; there is no number {number} (--only).", 2)
    return cut(document, held[number - 1].pages, held[number - 1].box)


def _named(models: Mapping[str, Model], name: str) -> Model:
    if name not in models:
        raise CommandFailed(f"There is no model {name!r}. Known: {', '.join(models)}.", 2)
    return models[name]


def _show(found: Extracted, every: Sequence[Finding], out: TextIO) -> None:
    reading = found.reading
    rows = []
    for pointer, value in leaves(reading.record):
        given = reading.evidence.get(pointer)
        where = f"page {given.page}: {given.quote}" if given and given.page else given.how if given else ""
        rows.append([pointer[1:], plain(value), f"{given.confidence:.2f}" if given else "", where])
    table(rows, ["field", "value", "sure", "evidence"], out)
    print(file=out)
    for level, message in told(every):
        print(f"{level}: {message}", file=out)
    if not every:
        print("Nothing was found wrong.", file=out)
    print("\nHow it was read", file=out)
    table([[each.name, each.outcome] for each in reading.stages], ["stage", "what came of it"], out)
    print(f"Read by {found.model}: {found.usage.input_tokens} tokens in, {found.usage.output_tokens} out, {found.usage.seconds:.2f} s.", file=out)


def told(given: Sequence[Finding]) -> list[tuple[str, str]]:
    """Findings as lines for people; where many values are unsure, one line tells of all of them."""
    unsure = [each for each in given if each.check == "unsure"]
    if len(unsure) <= MANY:
        return [(each.level, each.message) for each in given]
    names = ", ".join(each.fields[0][1:] for each in unsure[:MANY])
    found = [(each.level, each.message) for each in given if each.check != "unsure"]
    return [*found, (unsure[0].level, f"{len(unsure)} values were read with little certainty: {names} … (column “sure” above).")]


MANY = 4  # unsure values that are told of one by one


def record_type_in(path: Path) -> RecordType:
    """The record type in a file. Raises `CommandFailed` when it is none."""
    try:
        return record_type(loads(file_bytes(path)))
    except NotJson as error:
        raise CommandFailed(f"{path} is no JSON: {error}.", 2) from error
    except BadRecordType as error:
        raise CommandFailed(f"{path}: {error}", 2) from error
