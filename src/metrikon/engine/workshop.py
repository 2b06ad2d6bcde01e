"""What steps may ask for: documents, record types, models, places."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import msgspec

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.connections.imap import Mailserver
from metrikon.connections.smtp import Sender
from metrikon.core.decisions.model import Table
from metrikon.core.documents.bundling import bundled
from metrikon.core.documents.drawing import drawn, drawn_small
from metrikon.core.documents.model import FORM, Document, Summary, Within, from_bytes, summary
from metrikon.core.flows.model import Said
from metrikon.core.judging.criteria import Anchor
from metrikon.core.records.lists import KnownList
from metrikon.core.records.types import RecordType
from metrikon.core.services.description import Operation
from metrikon.core.values.near import meant
from metrikon.drivers.paper import WorkerPaper
from metrikon.drivers.reading import ReaderPool
from metrikon.engine.calling import Bound, Switchboard
from metrikon.engine.catalog import Catalog
from metrikon.engine.outside import Outside
from metrikon.engine.ways import Ways
from metrikon.ports.apart import HERE, Apart
from metrikon.ports.clock import Clock
from metrikon.ports.destination import Destination
from metrikon.ports.files import Files
from metrikon.ports.paper import Paper
from metrikon.ports.reader import Refused
from metrikon.ports.step import Call
from metrikon.ports.transcription import Transcriber
from metrikon.readers.recording import FORMATS as RECORDINGS
from metrikon.readers.recording import WANTED
from metrikon.readers.registry import found_format
from metrikon.store import fetched, judged, records
from metrikon.store.fetched import KeptPage
from metrikon.store.lists import FolderOfLists

SEEN = 110  # dots an inch of the pages that a model is shown: small print can be read, and no more is paid for
AT_ONCE = 500  # records that are read at once
STAMP = 30  # dots an inch: a smaller picture shows no letters


class EngineWorkshop:
    """The workshop of steps, as the engine has it."""

    def __init__(
        self,
        files: Files,
        readers: ReaderPool,
        board: Switchboard,
        catalog: Catalog,
        clock: Clock,
        default: str,
        places: Callable[[Said], tuple[str, str]],
        destinations: Callable[[Said], Destination],
        transcriber: Transcriber | None = None,
        passwords: Callable[[str | None], Sequence[str]] = lambda flow: (),
        *,
        outside: Outside,
        ways: Ways,
        apart: Apart = HERE,
        may_touch: Callable[[Path], str] = lambda path: "",
    ) -> None:
        self._may_touch = may_touch
        self._outside = outside
        self.apart = apart
        self._ways = ways
        self.passwords = passwords  # of a flow, or of all
        self.transcriber = transcriber
        self.files = files
        self.readers = readers
        self.board = board
        self.catalog = catalog
        self.clock = clock
        self.default = default
        self.places_of = places
        self.destination_of = destinations
        self.lists = FolderOfLists(files.root / "lists")

    def read_document(self, sha256: str, flow: str | None = None) -> Document:
        """A kept file as a document; what was read before is not read again. The passwords of `flow` are tried, of all without one."""
        kept = self.files.get_derived(_stored(sha256))
        if kept is not None:
            try:
                return from_bytes(kept)
            except msgspec.MsgspecError:
                pass  # cut off by a crash: it is made again below
        self._read(sha256, flow)
        return from_bytes(self.files.derived_path(_stored(sha256)).read_bytes())

    def summary(self, sha256: str, flow: str | None = None) -> Summary:
        """The same document without its words."""
        kept = self.files.get_derived(_stored(sha256))
        try:
            return summary(kept) if kept is not None else self._read(sha256, flow)
        except msgspec.MsgspecError:
            return self._read(sha256, flow)  # cut off by a crash

    def paper(self, sha256: str, flow: str | None = None, only: Within | None = None) -> Paper:
        """The document of a kept file, or one of several within it, worked on in a worker process."""
        place = self.files.derived_path(_stored(sha256))
        return WorkerPaper(self.readers, place, lambda: self._read(sha256, flow), lambda page: self._seen(sha256, page, flow), only)

    def together(self, files: Sequence[tuple[str, str]], flow: str | None = None) -> str:
        """Files kept as one that is read as one; its hash. Of a recording what was heard in it is kept."""
        return self.files.put(bundled((name, self._said(self.files.get(sha256))) for name, sha256 in files))

    def _said(self, data: bytes) -> bytes:
        """A file as it is, of a recording the answer of its transcription."""
        try:
            format = found_format(data[:64]).format
        except Refused:
            return data  # no recording: what it is, its reader says
        return data if format not in RECORDINGS or self.transcriber is None else self.transcriber.transcribe(data, format)

    def _seen(self, sha256: str, page: int, flow: str | None) -> bytes:
        """A page as a model is shown it."""
        return self.page_picture(self.read_document(sha256, flow), page, SEEN)[0]

    def _read(self, sha256: str, flow: str | None) -> Summary:
        path = self.files.path(sha256)
        if not self.files.here(sha256):
            raise KeyError(sha256)
        place = self.files.derived_path(_stored(sha256))
        try:
            return summary(self.readers.keep(path, place, self.passwords(flow)))
        except Refused as error:
            if error.code != WANTED or self.transcriber is None:
                raise
        answer = self.transcriber.transcribe(path.read_bytes(), found_format(path.read_bytes()[:64]).format)
        found = summary(self.readers.keep_heard(path, place, answer, self.transcriber.name))
        self.transcriber.done(sha256)
        return found

    def stop_hearing(self, files: Iterable[str]) -> None:
        """Nobody waits for these files any more: those that are heard just now are heard no further."""
        if self.transcriber is not None:
            for sha256 in files:
                self.transcriber.stop(sha256)

    def page_picture(self, document: Document, page: int, dots: int) -> tuple[bytes, str]:
        """A page drawn when first looked at, and its media type: SVG when we set the page, else PNG."""
        if document.pages[page - 1].source == "set":
            return (drawn_small if dots <= STAMP else drawn)(document, page), "image/svg+xml"
        name = f"{document.sha256}-{page}-{dots}.png"
        kept = self.files.get_derived(name)
        if kept is None:
            kept = self.readers.picture(self.files.path(document.sha256), page, document.pages[page - 1].turned, dots, self.passwords(None))
            self.files.put_derived(name, kept)
        return kept, "image/png"

    def keep_parts(self, sha256: str, flow: str | None = None) -> None:
        """Keep the files within a kept file, each under its own hash."""
        self.readers.keep_parts(self.files.path(sha256), self.files.root, self.passwords(flow))

    def record_type(self, name: str, version: int | None = None) -> tuple[RecordType, int]:
        return self.catalog.record_type(name, version)

    def decision_table(self, name: str, version: int | None = None) -> tuple[Table, int]:
        return self.catalog.decision_table(name, version)

    def destination(self, flow: str, version: int, name: str) -> Destination | None:
        said = self.catalog.flow(flow, version).destinations.get(name)
        return self.destination_of(said) if said is not None else None

    def model(self, name: str | None, call: Call) -> Bound:
        return self.board.bound(name or self.default, call.flow, call.run_id, call.seconds, call.anew)

    def accepted(self, record_type: str) -> Iterator[Mapping[str, Any]]:
        after = ""
        while True:
            with self.board.database.reading() as connection:
                found = records.accepted(connection, record_type, after, AT_ONCE)
            yield from (values for _, values in found)
            if len(found) < AT_ONCE:
                return
            after = found[-1][0]

    def known_list(self, name: str) -> KnownList | None:
        return self.lists.get(name)

    def anchors(self, flow: str, criteria: str) -> Sequence[Anchor]:
        with self.board.database.reading() as connection:
            return judged.anchors_of(connection, flow, criteria)

    def places(self, flow: str, version: int, name: str) -> tuple[str, str]:
        return self.places_of(self.catalog.flow(flow, version).destinations[name])

    def fetch(self, wanted: Wanted) -> KeptPage:
        """A page or file fetched and kept; one that is as it was is the one that is kept. By a connection it is signed in."""
        if wanted.connection:
            wanted = replace(wanted, url=self.outside.connections.at(wanted.connection, wanted.url))
        with self.board.database.reading() as connection:
            before = fetched.known(connection, wanted.kept_as)
        there = before is not None and self.files.here(before.file)
        known = before.validators if before is not None and there else {}
        found = self.outside.fetch(replace(wanted, known=known))
        if found.data is None and before is not None:
            return replace(before, changed=False)
        if found.status != 200:
            return KeptPage("", "", found.media, len(found.data or b""), found.url, changed=False, status=found.status)
        sha256 = self.files.put(found.data or b"")
        changed = before is None or before.file != sha256
        return KeptPage(sha256, found.name, found.media, len(found.data or b""), found.url, changed, found.validators)

    @property
    def home(self) -> Path:
        return self.files.root

    def may_touch(self, path: Path) -> str:
        return self._may_touch(path)

    @property
    def ways(self) -> Ways:
        return self._ways

    @property
    def outside(self) -> Outside:
        return self._outside

    def operation(self, connection: str, name: str) -> Operation:
        told = self.outside.seen(connection)
        if told is None:
            raise FetchFailed(f"The service of the connection {connection} is not described. Give it its OpenAPI description.")
        found = told.operations.get(name)
        if found is None:
            raise FetchFailed(f"The service of {connection} has no operation {name!r}{meant(name, sorted(told.operations))}")
        return found

    def call(self, wanted: Wanted) -> Fetched:
        return self.outside.fetch(wanted)

    def sender(self, connection: str) -> Sender:
        return self.outside.sender(connection)

    def mailbox(self, connection: str) -> Mailserver:
        return self.outside.mail(connection)

    def file(self, sha256: str) -> bytes:
        """The bytes of a kept file. Raises KeyError."""
        return self.files.get(sha256)

    def place_of(self, sha256: str) -> Path:
        if not self.files.here(sha256):
            raise KeyError(sha256)
        return self.files.path(sha256)

    def keep(self, data: bytes) -> str:
        return self.files.put(data)

    def new_id(self) -> str:
        return self.clock.new_id()


def _stored(sha256: str) -> str:
    """The name of the stored form of a file's document."""
    return f"{sha256}-{FORM}.document"
