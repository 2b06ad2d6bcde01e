"""What goes in and out of the API. Requests are checked by these types and responses are made from them."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

State = Literal["ready", "running", "waiting", "review", "parked", "held", "done", "stopped", "refused"]


class View(BaseModel):
    """Base of all of them."""

    model_config = ConfigDict(extra="ignore")


class SignIn(View):
    name: str = Field(..., max_length=80)
    password: str = Field(..., max_length=400)


class SessionView(View):
    person: str
    csrf: str


class NamePath(View):
    name: str = Field(..., max_length=60)


class IdPath(View):
    id: str = Field(..., pattern=r"^[0-9a-z]{26}$")


class HashPath(View):
    sha256: str = Field(..., pattern=r"^[0-9a-f]{64}$")


class PagePath(HashPath):
    page: int = Field(..., ge=1, le=100_000)


class PictureQuery(View):
    dots: int = Field(110, ge=1, le=600, description="Dots an inch; the nearest of 20, 110 and 160 is drawn.")


class ListQuery(View):
    """Paging: `cursor` is the `next` of the page before."""

    cursor: str = Field("", max_length=300)
    limit: int = Field(50, ge=1, le=500)


class ItemQuery(ListQuery):
    flow: str = Field("", max_length=60)
    state: str = Field("", max_length=120, description="States, parted by commas.")
    q: str = Field("", max_length=200, description="Part of a file name or of a value.")
    since: int = Field(0, ge=0, description="Milliseconds since 1970.")


class RunQuery(ListQuery):
    flow: str = Field("", max_length=60)
    state: str = Field("", max_length=120)
    item: str = Field("", max_length=26)


class RecordQuery(ListQuery):
    record_type: str = Field("", max_length=60)
    state: str = Field("", max_length=120)
    q: str = Field("", max_length=200)
    sort: str = Field("-id", max_length=20, pattern=r"^-?(id|title|state|model|item)$")


class CsvQuery(View):
    record_type: str = Field(..., max_length=60)
    state: str = Field("", max_length=120)
    q: str = Field("", max_length=200)


class ChangesQuery(View):
    after: int = Field(-1, ge=-1, description="Number of the last change seen; -1 for where the feed stands now.")


class ArrivedView(View):
    """The answer to an upload; sending the same again gets the same answer, with `known` true."""

    item_id: str
    run_id: str
    known: bool
    held: bool


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


class RunDetail(RunView):
    journal: list[EntryView]
    record_id: str | None = None


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
    title: str | None = None


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


class DeliveryView(View):
    path: str
    target: str
    state: str
    receipt: str | None
    error: str | None


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
    deliveries: list[DeliveryView]
    created_at: int
    reviewed_at: int | None = None
    reviewed_by: str | None = None
    comment: str | None = None
    next_waiting: str | None = None


class CheckBody(View):
    values: dict[str, Any]


class CheckView(View):
    values: dict[str, Any]
    evidence: dict[str, EvidenceView]
    findings: list[FindingView]


class ApproveBody(View):
    values: dict[str, Any] | None = None
    comment: str = Field("", max_length=2000)


class RefuseBody(View):
    comment: str = Field(..., min_length=1, max_length=2000)


class WordView(View):
    text: str
    box: tuple[float, float, float, float]


class PageView(View):
    number: int
    width: float
    height: float
    source: str
    words: list[WordView]


class DocumentView(View):
    sha256: str
    format: str
    pages: list[PageView]
    warnings: list[str]


class WaitingView(View):
    run_id: str
    item_id: str
    item_name: str
    flow: str
    state: State
    since: int
    record_id: str | None
    title: str | None
    message: str


class FlowToday(View):
    flow: str
    came: int
    written: int
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
    about: str
    text: str
    created_at: int


class FlowList(View):
    items: list[FlowView]


class SwitchBody(View):
    running: bool


class PutView(View):
    name: str
    version: int


class RecordTypeView(View):
    name: str
    version: int
    text: str


class RecordTypeList(View):
    items: list[RecordTypeView]


class ContinueView(View):
    continued: int


class RunStarted(View):
    run_id: str


class TokenBody(View):
    name: str = Field(..., min_length=1, max_length=80)


class TokenView(View):
    id: str
    name: str
    created_at: int
    used_at: int | None = None


class TokenMade(TokenView):
    secret: str


class TokenList(View):
    items: list[TokenView]


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


class ProblemView(View):
    """Problem details (RFC 9457)."""

    type: str
    title: str
    status: int
    detail: str
