"""Step: what one kind of step does with its parameters. Kinds that only move a run about have none: the fold walks them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Literal, Protocol

from metrikon.core.decisions.model import Table
from metrikon.core.documents.model import Document, Summary, Within
from metrikon.core.judging.criteria import Anchor
from metrikon.core.records.lists import KnownList
from metrikon.core.records.types import RecordType
from metrikon.core.services.description import Operation
from metrikon.ports.apart import Apart
from metrikon.ports.destination import Destination
from metrikon.ports.model import Model, Usage
from metrikon.ports.paper import Paper

Transaction = Any  # of the store: a step hands it on to the store's functions, so that what it stores is committed with its journal entry


@dataclass(frozen=True)
class Call:
    """One step instance to be done: its parameters with their holes filled, and where it stands."""

    run_id: str
    item_id: str
    flow: str
    flow_version: int
    path: str
    parameters: Mapping[str, Any]
    attempt: int
    most_attempts: int  # 0: as many as fit into the time for which is waited where what is called is away
    today: str
    file_name: str
    said: Any = None  # the step's parameters as the flow says them: a form of its kind
    scope: Mapping[str, Any] = field(default_factory=dict)  # for conditions in them
    moment: datetime | None = None  # now, in the zone of the flow
    seconds: float | None = None  # that are left of the limit of the step
    corrects: bool = False  # its run corrects what earlier runs of the item have sent out
    renew: bool = False  # what is there otherwise is set, or sent again, as a person has said
    cut_off: bool = False  # it was begun before, and whether it came to its end is not known
    anew: int = 0  # what models answered before this moment (milliseconds since 1970) is not used
    versions: Mapping[str, int] = field(default_factory=dict)  # of what is kept in versions, as of the start of the run, by "what name"


@dataclass(frozen=True)
class Made:
    """An entry of the journal that a step makes.

    `event`: "done" with its result; "asked" with its result so far, when a person must answer, and `reason` for people; "begun" with whatever is to be
    known of it, when its end comes from elsewhere; "failed" with a `message`, when a person must look first.
    """

    event: Literal["done", "asked", "begun", "failed"]
    data: Mapping[str, Any]
    reason: str = ""


Commit = Callable[[Transaction, int], Made]  # the time in milliseconds


@dataclass(frozen=True)
class Outcome:
    """What a step gave: its result, or `commit`, which makes it within the transaction that journals it. `usage`: what a model call cost; `made`: the
    hashes of files that it made."""

    result: dict[str, Any] = field(default_factory=dict)
    commit: Commit | None = None
    usage: Usage | None = None
    made: Sequence[str] = ()
    found: bool = False  # what was to go out was there before, and was not made by it


@dataclass(frozen=True)
class Sent:
    """What a step has sent out: what of it was kept (`core.deliveries.sending.Sends`), and what the step gave then."""

    values: Mapping[str, Any]
    result: Mapping[str, Any]


class TakesBack(Protocol):
    """Takes back what a kind of step has sent out; nothing when it is gone, else why it stays. Raises `StepFailed` where trying later may help."""

    def __call__(self, sent: Sent, workshop: Workshop) -> str: ...


class Runner(Protocol):
    """What a kind of step does; raises `StepFailed`."""

    def __call__(self, call: Call, workshop: Workshop) -> Outcome: ...


GatheredCommit = Callable[[Transaction, int], list[list[Made]]]  # for each of the calls its entries


class GatheredRunner(Protocol):
    """What a kind of step does of which many are done in one commit."""

    def __call__(self, calls: Sequence[Call], workshop: Workshop) -> GatheredCommit: ...


class StepFailed(Exception):
    """A step did not come to its end. `again`: trying later may help; `refused`: the item ends here.

    `cause`: what it was, of `core.flows.model.CAUSES`, where trying later may help. `turn`: it was only not its turn, which counts as no try.
    `unsure`: it may have gone out all the same, and nobody can be asked; what it has given then. A person decides. `seen`: pictures that show why, each with `told` and `file`.
    """

    def __init__(
        self,
        message: str,
        *,
        again: bool = False,
        wait: float | None = None,
        refused: bool = False,
        cause: str = "",
        turn: bool = False,
        unsure: Mapping[str, Any] | None = None,
        seen: Sequence[Mapping[str, str]] = (),
    ) -> None:
        super().__init__(message)
        self.message = message
        self.again = again
        self.wait = wait
        self.refused = refused
        self.cause = cause
        self.turn = turn
        self.unsure = unsure
        self.seen = seen


class CalledModel(Model, Protocol):
    """A model whose calls are counted, limited and kept on record for one run."""

    def reject(self, call: str) -> None:
        """An answer was no good: it is not given again."""
        ...

    def commit(self, connection: Transaction) -> None:
        """Keep the records of the calls, in the transaction of the step."""
        ...

    def keep(self) -> None:
        """The same in a transaction of its own, for a step that did not come to its end."""
        ...


class Workshop(Protocol):
    """What steps may ask for: documents, record types, models, places."""

    def read_document(self, sha256: str, flow: str | None = None) -> Document:
        """The document of a kept file, read now or before, with the passwords of a flow. Raises `Refused` or `ReaderDied`."""
        ...

    def summary(self, sha256: str, flow: str | None = None) -> Summary:
        """The same document without its words. Raises as `read_document`."""
        ...

    def keep_parts(self, sha256: str, flow: str | None = None) -> None:
        """Keep the files within a kept file, each under its own hash. Raises as `read_document`."""
        ...

    def together(self, files: Sequence[tuple[str, str]], flow: str | None = None) -> str:
        """Files, each its name and hash, kept as one that is read as one; its hash. Raises KeyError for one that is not kept."""
        ...

    def paper(self, sha256: str, flow: str | None = None, only: Within | None = None) -> Paper:
        """The same document, or one of several within it, put before extraction. Raises as `read_document`."""
        ...

    def record_type(self, name: str, version: int | None = None) -> tuple[RecordType, int]:
        """A record type and its version, the newest without one. Raises KeyError."""
        ...

    def model(self, name: str | None, call: Call) -> CalledModel:
        """A model by name, bound to a step of a run; the default without a name. Raises KeyError."""
        ...

    def decision_table(self, name: str, version: int | None = None) -> tuple[Table, int]:
        """A decision table and its version, the newest without one. Raises KeyError."""
        ...

    def destination(self, flow: str, version: int, name: str) -> Destination | None:
        """The adapter of a destination of a flow; None when the flow names none so."""
        ...

    def accepted(self, record_type: str) -> Iterator[Mapping[str, Any]]:
        """The values of every record of a type that was approved or needed nobody, in the order in which they were made."""
        ...

    def known_list(self, name: str) -> KnownList | None:
        """The known values of a list, or None when there is no such list."""
        ...

    def anchors(self, flow: str, criteria: str) -> Sequence[Anchor]:
        """Earlier judged documents by which the level of criteria is kept in a flow (`core.judging.anchors.version_of`); none where none were chosen."""
        ...

    def places(self, flow: str, version: int, name: str) -> tuple[str, str]:
        """The place of a destination of a flow, and the same as earlier versions named it."""
        ...

    def fetch(self, wanted: Any) -> Any:
        """A page or file fetched (`connections.fetching.Wanted`) and kept (`store.fetched.KeptPage`). Raises `FetchFailed`."""
        ...

    @property
    def home(self) -> Path:
        """The folder of the service, at which relative paths of flows start."""
        ...

    @property
    def apart(self) -> Apart:
        """Where what strangers have made is opened."""
        ...

    def place_of(self, sha256: str) -> Path:
        """Where a kept file lies. Raises KeyError."""
        ...

    def may_touch(self, path: Path) -> str:
        """Why a flow may not touch a path, with what to do; empty when it may."""
        ...

    def call(self, wanted: Any) -> Any:
        """What a connection answers (`connections.fetching`: `Wanted`, `Fetched`); nothing of it is kept. Raises `FetchFailed`."""
        ...

    @property
    def ways(self) -> Any:
        """Ways in and their screens (`engine.ways.Ways`)."""
        ...

    @property
    def outside(self) -> Any:
        """How outside services are called, with which destinations are built (`engine.outside.Outside`)."""
        ...

    def operation(self, connection: str, name: str) -> Operation:
        """An operation of the described service of a connection. Raises `FetchFailed`."""
        ...

    def sender(self, connection: str) -> Any:
        """A session at a server that takes mail (`connections.smtp.Sender`). Raises `FetchFailed`."""
        ...

    def mailbox(self, connection: str) -> Any:
        """A client of a mailbox (`connections.imap.Mailserver`). Raises `FetchFailed`."""
        ...

    def file(self, sha256: str) -> bytes:
        """The bytes of a kept file. Raises KeyError."""
        ...

    def keep(self, data: bytes) -> str:
        """Keep a file that a step makes; its hash. It is named in `Outcome.made`, and kept as long as the result."""
        ...

    def new_id(self) -> str: ...


class ReaderDied(Exception):
    """The process that read a file was killed or came to its limit of time or memory."""


class WorkFailed(ReaderDied):
    """An error of the service or of the machine while a document was worked on: it is not the file's fault, and nothing is refused for it."""
