"""What comes out of the API: responses are made from these types."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from metrikon.service.sent_views import DeliveryView, RecordBeforeView, View

State = Literal["ready", "running", "waiting", "review", "parked", "held", "done", "stopped", "refused"]


class SessionView(View):
    person: str
    csrf: str
    role: str = Field("", description="upload, reader, reviewer, builder or admin.")


class ArrivedView(View):
    """The answer to an upload; sending the same again gets the same answer, with `known` true."""

    item_id: str
    run_id: str
    known: bool
    held: bool
    others: list[ArrivedView] = []  # when the file was opened into several items: those after the first


class PasswordsView(View):
    """How many passwords a flow has; they are never shown."""

    flow: str
    count: int


class RunView(View):
    id: str
    item_id: str
    item_name: str = ""
    flow: str
    flow_version: int
    state: State
    reason: str
    wake_at: int | None = None
    created_at: int
    changed_at: int
    settled_at: int | None = None
    calls: int
    input_tokens: int
    output_tokens: int
    cost: str


class RunPage(View):
    items: list[RunView]
    next: str | None


class EntryView(View):
    number: int
    event: str
    path: str
    kind: str
    at: int
    took: int | None
    data: dict[str, Any]


class HeardView(View):
    """How much of a long recording was heard: `seconds` of it, `pieces` of so many `in_all`."""

    seconds: float
    pieces: int
    in_all: int


class EnteringView(View):
    """How far an entry into a program with a screen is: `done` things of so many `in_all`, and `at` which it is."""

    done: int
    in_all: int
    at: str


class CorrectionView(View):
    """A value of a step that a person corrected for a run, or for one that it goes on from."""

    path: str = Field(..., description="Of the value: the path of the step, then that within its result.")
    value: Any = None
    by: str
    at: int


class RunDetail(RunView):
    journal: list[EntryView]
    deliveries: list[DeliveryView] = Field(default_factory=list, description="What it has sent out.")
    corrections: list[CorrectionView] = Field(default_factory=list, description="All that was corrected, in order; a later one of a path counts.")
    record_id: str | None = None
    heard: HeardView | None = Field(None, description="How far a long recording is, while it is heard on this machine.")
    entering: EnteringView | None = Field(None, description="How far it is with what it enters into a program just now.")


class ItemView(View):
    id: str
    flow: str
    intake: str
    sha256: str
    name: str
    size: int
    received_at: int
    run_id: str
    state: State
    reason: str
    changed_at: int
    cost: str
    record_id: str | None = None
    record_state: str | None = None
    title: str | None = Field(None, description="Of its record, of the first one where it has several.")
    record_count: int = Field(0, description="How many records it has.")


class ItemPage(View):
    items: list[ItemView]
    next: str | None


class ItemDetail(View):
    id: str
    flow: str
    intake: str
    sha256: str
    name: str
    size: int
    received_at: int
    data: Any = Field(None, description="What its intake knows of it, such as a payload or a row.")
    runs: list[RunView]


class FindingView(View):
    check: str
    level: Literal["stop", "warn"]
    message: str
    fields: list[str]
    compared: dict[str, str]


class EvidenceView(View):
    how: str
    page: int = 0
    box: tuple[float, float, float, float] | None = None
    quote: str = ""
    sure: float = 1.0
    confidence: float = 1.0
    inputs: dict[str, float] = {}
    file: str = ""


class RecordRow(View):
    id: str
    run_id: str
    item_id: str
    item_name: str
    record_type: str
    state: str
    title: str
    model: str
    values: dict[str, Any]
    findings: list[FindingView]
    created_at: int
    reviewed_by: str | None = None


class RecordPage(View):
    items: list[RecordRow]
    next: str | None


class FieldView(View):
    """One field of a record type, as a form needs it."""

    shape: str
    name: str
    title: str
    kind: str
    required: bool
    description: str
    options: list[str]


class RecordDetail(View):
    id: str
    run_id: str
    item_id: str
    item_name: str
    record_type: str
    state: str
    title: str
    model: str
    document: str
    values: dict[str, Any]
    as_read: dict[str, Any]
    evidence: dict[str, EvidenceView]
    findings: list[FindingView]
    changes: list[str]
    fields: list[FieldView]
    deliveries: list[DeliveryView] = Field(..., description="What came of it, of all runs of its item.")
    before: list[RecordBeforeView] = Field(
        default_factory=list, description="What it held before each correction after it was written, the latest first."
    )
    created_at: int
    reviewed_at: int | None = None
    reviewed_by: str | None = None
    comment: str | None = None
    next_waiting: str | None = None


class CheckView(View):
    values: dict[str, Any]
    evidence: dict[str, EvidenceView]
    findings: list[FindingView]


class WordView(View):
    text: str
    box: tuple[float, float, float, float]


class PageView(View):
    number: int
    width: float
    height: float
    source: str
    part: str = ""  # the file that the page is of, where several are read as one
    words: list[WordView]


class FactView(View):
    """Something the file says of itself in a form made for programs; `term`: its business term in EN 16931."""

    name: str
    value: str
    source: str
    path: str
    term: str = ""


class HiddenView(View):
    """Text that a person who looks at the document does not see."""

    text: str
    why: str
    page: int = 0


class PartView(View):
    """A file within the file; `role` is "attachment", "inline" or "member"."""

    name: str
    file: str
    size: int
    role: str


class DocumentView(View):
    sha256: str
    format: str
    pages: list[PageView]
    warnings: list[str]
    why: str = ""
    facts: list[FactView] = []
    hidden: list[HiddenView] = []
    parts: list[PartView] = []


class WaitingView(View):
    run_id: str
    item_id: str
    item_name: str
    flow: str
    state: State
    since: int
    record_id: str | None
    question_id: str | None = None
    title: str | None
    message: str


class FlowToday(View):
    flow: str
    came: int
    written: int
    otherwise: int = Field(..., description="Done, but a row is there with other values, and was left so.")
    waits: int
    parked: int
    refused: int
    stopped: int
    working: int


class Spend(View):
    cost: str
    currency: str
    calls: int
    input_tokens: int
    output_tokens: int
    limit: str = "0"  # a day, all flows together; 0: none


class TodayView(View):
    waiting: list[WaitingView]
    flows: list[FlowToday]
    spend: Spend
    problems: list[str]
    model: str
    empty: bool


class FlowView(View):
    name: str
    version: int
    running: bool
    paused: bool = False
    comes: list[str] = Field(default_factory=list, description="What comes in, in a few words.")
    goes: list[str] = Field(default_factory=list, description="Where rows go.")
    wrong: int = Field(0, description="How many problems it has with what is kept here now.")
    put_by: str = ""
    why: str = ""
    about: str
    text: str
    created_at: int


class FlowList(View):
    items: list[FlowView]


class PutView(View):
    name: str
    version: int


class FlowPut(PutView):
    """A flow as it is kept now. `waits`: its intakes that take nothing until somebody has seen what they would take and said yes; `told`: what else is to be
    told of it; `own`: of a copy, the intakes that have an address of its own; `places`: where on this machine it looks and writes, with what is there."""

    waits: list[str] = []
    told: list[str] = []
    own: list[str] = []
    places: list[str] = []


class ToldList(View):
    """What is to be told, in sentences."""

    told: list[str]


class RecordTypeView(View):
    name: str
    version: int
    text: str
    created_at: int = 0


class RecordTypeList(View):
    items: list[RecordTypeView]


class ThereNowView(View):
    """A row that may have been written: what was sent, and what its destination holds now that is like it; none with the reason `why` where that cannot be looked for."""

    to: str
    sent: dict[str, Any]
    found: list[dict[str, Any]] | None
    why: str


class ThereNowList(View):
    items: list[ThereNowView]


class ContinueView(View):
    continued: int


class RunStarted(View):
    run_id: str


class TokenView(View):
    id: str
    name: str
    role: str
    created_at: int
    used_at: int | None = None
    until: int | None = Field(None, description="When it ends, milliseconds since 1970.")


class TokenMade(TokenView):
    secret: str


class TokenList(View):
    items: list[TokenView]


class PersonView(View):
    name: str
    role: str
    created_at: int


class PersonPut(PersonView):
    new: bool
    password: str | None = Field(None, description="The password that was made; it is shown here alone.")


class PeopleList(View):
    items: list[PersonView]


class PlaceView(View):
    place: str
    why: str
    by: str
    at: int | None = Field(None, description="Milliseconds since 1970; none for what the settings allow.")


class PlaceList(View):
    items: list[PlaceView]


class ChangeView(View):
    number: int
    kind: str
    ref: str
    at: int


class ChangesView(View):
    last: int
    gap: bool
    changes: list[ChangeView]


class HealthView(View):
    status: str
    version: str = ""
    problems: list[str] = Field(default_factory=list)
