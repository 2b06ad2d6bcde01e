"""What the API says and takes of the flow language: problems of flows, decision tables, questions, events."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from metrikon.service.sent_views import Sent, View


class FlowProblem(View):
    step: str
    place: str
    message: str
    line: int
    column: int


class FlowCheck(View):
    """What is wrong with the text of a flow; nothing where it may be kept."""

    name: str
    problems: list[FlowProblem]
    remarks: list[FlowProblem] = Field(default_factory=list, description="What is right and yet worth a word, such as a choice that was left open.")


class SchemaView(View):
    """A JSON Schema, as text, since its names are not those of the API."""

    text: str


class TableView(View):
    name: str
    version: int
    about: str
    text: str
    created_at: int = 0
    open: list[str] = Field(default_factory=list, description="What the table leaves open.")


class TableList(View):
    items: list[TableView]


class AskTableBody(Sent):
    given: dict[str, Any]


class DecisionView(View):
    outcome: Any
    rules: list[int]
    inputs: dict[str, Any]
    missing: list[str]


class OptionView(View):
    name: str
    label: str
    comment: str


class RecordBeside(View):
    id: str
    title: str


class ShownFrom(View):
    """Where a value stands: its record, its place in that, the page, the words around it."""

    record: str
    pointer: str
    page: int
    quote: str
    how: str


class LinkBody(Sent):
    who: str = Field(..., min_length=1, max_length=80, description="Who answers through the link; the answer is kept under this name.")
    days: float = Field(14, gt=0, le=366, description="How long the link may be used.")


class LinkView(View):
    """A signed link: whoever has it may answer this one question."""

    url: str
    who: str
    until: int


class QuestionView(View):
    id: str
    run_id: str
    item_id: str
    item_name: str
    flow: str
    question: str
    options: list[OptionView]
    show: dict[str, Any]
    who: list[str]
    state: str
    asked_at: int
    answered_at: int | None
    answer: str | None
    answered_by: str | None
    comment: str | None
    reminded: int = Field(0, description="How often it was brought to mind.")
    evidence: dict[str, ShownFrom] = Field(default_factory=dict, description="Where values that are shown stand in the document, by their label.")
    records: list[RecordBeside] = Field(default_factory=list, description="Records of the run, with the evidence of every value.")


class QuestionList(View):
    items: list[QuestionView]


class QuestionQuery(View):
    state: str = Field("open", max_length=10, pattern="^(open|answered|closed|)$", description="Only those in this state; all when empty.")


class AnswerBody(Sent):
    option: str = Field(..., min_length=1, max_length=40)
    comment: str = Field("", max_length=4000)


class EventBody(Sent):
    key: str = Field(..., min_length=1, max_length=200, description="What waits for it waits for this key.")
    data: Any = Field(None, description="What the flow then sees as `event`.")
    identity: str = Field("", max_length=200, description="Sent again under the same identity, it is not taken twice.")


class EventTaken(View):
    known: bool
    runs: int = Field(..., description="How many runs waited for it.")


class FlowLine(View):
    """A line of the reading list: a step with its number and sentence, or the head of a branch."""

    number: str
    depth: int
    step: str
    kind: str
    sentence: str
    more: list[str]


class FlowVersion(View):
    version: int
    created_at: int
    put_by: str
    why: str
    changes: list[str] = Field(..., description="What changed since the version before, in sentences.")


class SettingView(View):
    name: str
    type: str
    value: Any
    about: str
    options: list[str]


class FlowPage(View):
    name: str
    version: int
    running: bool
    paused: bool
    about: str
    zone: str
    text: str
    comes: list[str]
    goes: list[str]
    lines: list[FlowLine]
    problems: list[FlowProblem]
    settings: list[SettingView] = Field(..., description="Its settings, which a copy may change.")
    versions: list[FlowVersion]


class ValueView(View):
    path: str
    type: str
    value: Any = None
    count: int | None = None


class ValueList(View):
    """What the steps of a run gave, value by value, each with the path that an expression names it by."""

    items: list[ValueView]


class TryQuery(View):
    name: str = Field("sample", max_length=255, description="The name of the file.")
    until: str = Field("", max_length=40, description="The step up to which it is tried; all when empty.")
    item: str = Field("", max_length=26, description="An item that came in, instead of a file in the body.")
    sample: str = Field("", max_length=60, description="A sample of the flow, instead of a file in the body.")
    recorded: bool = Field(False, description="Whether models are not asked, and only answers that they gave before are used: it costs nothing.")


class TriedStep(View):
    path: str
    kind: str
    sentence: str
    result: Any = None
    would: str = Field("", description="What it would do, in words; empty for a step that was done.")
    values: dict[str, Any] = Field(default_factory=dict, description="With what it would do that.")


class TriedFlow(View):
    """What became of a flow that was tried on a file. Nothing left the house, and nothing was kept but what models cost."""

    steps: list[TriedStep]
    stands: str
    reason: str
    values: list[ValueView]
    told: list[str] = Field(default_factory=list, description="What is worth a word, such as keys that are the same for papers that differ.")
