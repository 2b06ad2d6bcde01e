"""read and extract: work on one file, without a service."""

from __future__ import annotations

import argparse
from datetime import date
from pathlib import Path
from typing import Any, TextIO

import msgspec

from metrikon.app.assemble import limits_of, models_of
from metrikon.app.settings import BadSetting, Settings, from_environment
from metrikon.cli.common import CommandFailed, plain, print_json, table
from metrikon.core.documents.model import Document
from metrikon.core.documents.text import document_text
from metrikon.core.extraction.index import Index
from metrikon.core.records import evidence, findings
from metrikon.core.records.pointers import leaves
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from metrikon.core.values.exact import NotJson, loads
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.drivers.reading import ReaderPool
from metrikon.ports.model import ModelDown, ModelRefused
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied

READABLE = "a PDF, PNG, JPEG, TIFF or WebP file"


def add(commands: Any) -> None:
    """Add the two commands."""
    reading = commands.add_parser(
        "read",
        help="make a file readable and show its text and tables",
        description="Read a file: pages, lines, tables. Exit 2 when it cannot be read.",
    )
    reading.add_argument("file", type=Path, help=READABLE)
    reading.add_argument("--json", action="store_true", help="print everything as JSON, with words and boxes")
    reading.set_defaults(run=run_read)
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
    taking.add_argument("--context", default="", help="what the model should know besides")
    taking.add_argument("--json", action="store_true", help="print record, evidence, findings and usage as JSON")
    taking.set_defaults(run=run_extract)


def run_read(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Read a file and show it."""
    try:
        document = _read(given.file, _settings())
    except Refused as error:
        return _refused(given, error, out, err)
    if given.json:
        print_json(_as_json(document), out)
        return 0
    for warning in document.warnings:
        print(f"warning: {warning}", file=err)
    print(document_text(document), file=out)
    for number, each in enumerate(document.tables, 1):
        print(f"\ntable {number}, page {', '.join(map(str, each.pages))}, {len(each.rows)} rows", file=out)
        table([[cell.text for cell in row] for row in each.rows], [cell.text for cell in each.header], out)
    return 0


def run_extract(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Read a record from a file and show it."""
    settings = _settings(model_url=given.model_url, model_name=given.model)
    kind = _type(given.record_type)
    try:
        document = _read(given.file, settings)
    except Refused as error:
        return _refused(given, error, out, err)
    models, default = models_of(settings)
    try:
        found = extract(models[default], kind, LocalPaper(Index(document)), date.today().isoformat(), given.context)
    except (ModelDown, ModelRefused) as error:
        raise CommandFailed(str(error)) from error
    finally:
        closing = getattr(models[default], "close", None)
        if closing:
            closing()
    reading = found.reading
    if given.json:
        usage = {**found.usage.as_json(), "model": found.model, "changes": list(reading.changes)}
        shown = {
            "record": reading.record,
            "evidence": evidence.as_json(reading.evidence),
            "findings": findings.as_json(reading.findings),
            "usage": usage,
        }
        print_json(shown, out)
    else:
        _show(found, kind, out)
    return 3 if findings.stops(reading.findings) else 0


def _show(found: Extracted, kind: RecordType, out: TextIO) -> None:
    reading = found.reading
    rows = []
    for pointer, value in leaves(reading.record):
        given = reading.evidence.get(pointer)
        where = f"page {given.page}: {given.quote}" if given and given.page else given.how if given else ""
        rows.append([pointer[1:], plain(value), where])
    table(rows, ["field", "value", "evidence"], out)
    print(file=out)
    for each in reading.findings:
        print(f"{each.level}: {each.message}", file=out)
    if not reading.findings:
        print("Nothing was found wrong.", file=out)
    print(f"Read by {found.model}: {found.usage.input_tokens} tokens in, {found.usage.output_tokens} out, {found.usage.seconds:.2f} s.", file=out)


def _refused(given: argparse.Namespace, error: Refused, out: TextIO, err: TextIO) -> int:
    print(f"metrikon: {given.file} cannot be read. {error.reason}", file=err)
    if given.json:
        print_json({"error": {"code": error.code, "reason": error.reason, "file": str(given.file)}}, out)
    return 2


def _read(path: Path, settings: Settings) -> Document:
    if not path.is_file():
        raise CommandFailed(f"There is no file {path}.", 2)
    pool = ReaderPool(1, limits_of(settings))
    try:
        return pool.read(path)
    except ReaderDied as error:
        raise Refused("reader-died", str(error)) from error
    finally:
        pool.close()


def _settings(**given: Any) -> Settings:
    try:
        return from_environment(**given)
    except BadSetting as error:
        raise CommandFailed(str(error), 2) from error


def _type(path: Path) -> RecordType:
    try:
        return record_type(loads(path.read_bytes()))
    except OSError as error:
        raise CommandFailed(f"{path} cannot be opened: {error.strerror}.", 2) from error
    except NotJson as error:
        raise CommandFailed(f"{path} is no JSON: {error}.", 2) from error
    except BadRecordType as error:
        raise CommandFailed(f"{path}: {error}", 2) from error


def _as_json(document: Document) -> dict[str, Any]:
    tables = [
        {"header": [cell.text for cell in each.header], "rows": [[cell.text for cell in row] for row in each.rows], "pages": each.pages}
        for each in document.tables
    ]
    pages = [
        {
            "number": page.number,
            "width": page.width,
            "height": page.height,
            "source": page.source,
            "words": [{"text": w.text, "box": w.box, "sure": w.sure} for w in page.words],
        }
        for page in document.pages
    ]
    whole = {"format": document.format, "text": document_text(document), "pages": pages, "tables": tables, "warnings": document.warnings}
    return dict(msgspec.to_builtins(whole))
