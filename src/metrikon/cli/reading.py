"""`metrikon read`: what reading makes of a file, as a person would want to see it."""

from __future__ import annotations

import argparse
import hashlib
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TextIO

import msgspec

from metrikon.app.reading import limits_of, transcriber_of
from metrikon.app.settings import Settings
from metrikon.cli.common import CommandFailed, as_minutes, print_json, settings_from, table
from metrikon.cli.given import file_text
from metrikon.core.documents.joining import joined
from metrikon.core.documents.model import Document, from_bytes
from metrikon.core.documents.text import document_text
from metrikon.drivers.pictures import marked, marked_set
from metrikon.drivers.reading import ReaderPool
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.ports.transcription import HeardSoFar, Transcriber, TranscriptionDown, TranscriptionRefused
from metrikon.readers.recording import WANTED
from metrikon.readers.registry import found_format

READABLE = "the file; what it is is found from its bytes, not from its name"
SHOWN = 60  # facts shown to people; --json has them all


def add(commands: Any) -> None:
    """Add the command."""
    reading = commands.add_parser(
        "read",
        help="make a file readable and show its text, tables and facts",
        description="Read a file: text in reading order, tables, the facts it carries for programs, what is hidden in it, files within it. "
        "Exit 0 when it was read, 2 when it is refused.",
    )
    reading.add_argument("file", type=Path, help=READABLE)
    reading.add_argument("--json", action="store_true", help="print everything as JSON, with words and boxes")
    reading.add_argument(
        "--pictures", type=Path, metavar="DIR", help="also write a picture of each page, with the boxes of words and cells drawn on it"
    )
    with_passwords(reading)
    reading.set_defaults(run=run_read)


def with_passwords(parser: argparse.ArgumentParser) -> None:
    """Add the option for encrypted files."""
    parser.add_argument("--passwords", type=Path, metavar="FILE", help="a text file with passwords to try on an encrypted file, one a line")


def passwords_in(path: Path | None) -> list[str]:
    """The passwords in a text file. Raises `CommandFailed`."""
    return file_text(path).splitlines() if path else []


def run_read(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Read a file and show it."""
    settings, passwords = settings_from(), passwords_in(given.passwords)
    pool = ReaderPool(1, limits_of(settings))
    try:
        document = read_file(given.file, settings, pool, passwords)
        written = _pictures(document, given.file, given.pictures, pool, passwords) if given.pictures else []
    except Refused as error:
        return refused(given, error, out, err)
    finally:
        pool.close()
    if given.json:
        print_json(_as_json(document), out)
    else:
        _show(document, out, err)
        for path in written:
            print(f"picture: {path}", file=out)
    return 0


def read_file(path: Path, settings: Settings, pool: ReaderPool | None = None, passwords: Sequence[str] = ()) -> Document:
    """The document in a file. Raises `Refused`, and `CommandFailed` without a file."""
    if not path.is_file():
        raise CommandFailed(f"There is no file {path}.", 2)
    readers = pool or ReaderPool(1, limits_of(settings))
    try:
        return readers.read(path, passwords=passwords)
    except Refused as error:
        transcriber = transcriber_of(settings, _how_far)
        if error.code != WANTED or transcriber is None:
            raise
        return _heard(path, transcriber, readers)
    except ReaderDied as error:
        raise Refused("reader-died", str(error)) from error
    finally:
        if pool is None:
            readers.close()


def read_together(paths: Sequence[Path], settings: Settings, passwords: Sequence[str] = ()) -> Document:
    """The documents in some files as one, each page under the name of its file; of one file its document. Raises as `read_file`."""
    found = [(path.name, read_file(path, settings, passwords=passwords)) for path in paths]
    return found[0][1] if len(found) == 1 else joined(Document("", "together", ()), found, limits_of(settings).max_pages)


def _how_far(far: HeardSoFar) -> None:
    """How much of a long recording was heard, on standard error."""
    if far.in_all > 1:
        print(f"metrikon: heard {as_minutes(far.seconds)} (piece {far.pieces} of {far.in_all})", file=sys.stderr, flush=True)


def _heard(path: Path, transcriber: Transcriber, readers: ReaderPool) -> Document:
    """The document of a recording, by the transcription service that is set."""
    data = path.read_bytes()
    try:
        answer = transcriber.transcribe(data, found_format(data[:64]).format)
        transcriber.done(hashlib.sha256(data).hexdigest())
    except (TranscriptionDown, TranscriptionRefused) as error:
        raise Refused("not-heard", str(error)) from error
    finally:
        transcriber.close()
    with tempfile.TemporaryDirectory(prefix="metrikon-") as folder:
        place = Path(folder) / "document"
        readers.keep_heard(path, place, answer, transcriber.name)
        return from_bytes(place.read_bytes())


def refused(given: argparse.Namespace, error: Refused, out: TextIO, err: TextIO) -> int:
    """Say why a file was refused; the exit code."""
    print(f"metrikon: {given.file} cannot be read. {error.reason}", file=err)
    if given.json:
        print_json({"error": {"code": error.code, "reason": error.reason, "file": str(given.file)}}, out)
    return 2


def _show(document: Document, out: TextIO, err: TextIO) -> None:
    for warning in document.warnings:
        print(f"warning: {warning}", file=err)
    print(f"{document.format}, {len(document.pages)} page{'s' if len(document.pages) != 1 else ''}: {document.why}\n", file=out)
    for number, held in enumerate(document.documents, 1):
        where = f"page{'s' if len(held.pages) > 1 else ''} {', '.join(map(str, held.pages))}{', a part of it' if held.box else ''}"
        print(f"document {number} of {len(document.documents)}: {where}{f', {held.title}' if held.title else ''}", file=out)
    print(document_text(document), file=out)
    for number, each in enumerate(document.tables, 1):
        print(f"\ntable {number}, page {', '.join(map(str, each.pages))}, {len(each.rows)} rows", file=out)
        header = [cell.text for cell in each.header] if any(cell.text for cell in each.header) else [""] * len(each.header)
        table([[cell.text for cell in row] for row in each.rows], header, out)
    if document.facts:
        print(f"\nfacts ({len(document.facts)})", file=out)
        table(
            [[fact.term or fact.name, fact.value[:80], f"{fact.source} {fact.path}"] for fact in document.facts[:SHOWN]],
            ["name", "value", "where"],
            out,
        )
        if len(document.facts) > SHOWN:
            print(f"… {len(document.facts) - SHOWN} more; --json prints them all", file=out)
    for hidden in document.hidden:
        where = f" (page {hidden.page})" if hidden.page else ""
        print(f"\nhidden{where}, {hidden.why}: {hidden.text[:300]}", file=out)
    for part in document.parts:
        print(f"\nwithin: {part.name}, {part.size} bytes, {part.role}", file=out)


def _pictures(document: Document, path: Path, folder: Path, pool: ReaderPool, passwords: Sequence[str]) -> list[Path]:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        written = []
        for page in document.pages:
            if page.source == "set":
                place, data = folder / f"{path.stem}-{page.number:03}.svg", marked_set(document, page.number)
            else:
                place, data = (
                    folder / f"{path.stem}-{page.number:03}.png",
                    marked(document, page.number, pool.picture(path, page.number, page.turned, 110, passwords)),
                )
            place.write_bytes(data)
            written.append(place)
    except ReaderDied as error:
        raise Refused("reader-died", str(error)) from error
    except OSError as error:
        raise CommandFailed(f"The pictures cannot be written to {folder}: {error.strerror}.") from error
    return written


def _as_json(document: Document) -> dict[str, Any]:
    tables = [
        {
            "header": [cell.text for cell in each.header],
            "rows": [[cell.text for cell in row] for row in each.rows],
            "pages": each.pages,
            "types": each.types,
            "cells": [[{"page": cell.page, "words": cell.words} for cell in row] for row in each.rows],
        }
        for each in document.tables
    ]
    pages = [
        {
            "number": page.number,
            "width": page.width,
            "height": page.height,
            "source": page.source,
            "turned": page.turned,
            "words": [{"text": w.text, "box": w.box, "sure": w.sure, **({"struck": True} if w.struck else {})} for w in page.words],
        }
        for page in document.pages
    ]
    whole = {
        "format": document.format,
        "why": document.why,
        "text": document_text(document),
        "pages": pages,
        "tables": tables,
        "facts": document.facts,
        "links": document.links,
        "hidden": document.hidden,
        "sentences": document.sentences,
        "parts": document.parts,
        "warnings": document.warnings,
    }
    return dict(msgspec.to_builtins(whole))
