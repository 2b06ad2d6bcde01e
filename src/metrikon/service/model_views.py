"""What comes out of the API about models, their costs, and record types in the making."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from metrikon.service.sent_views import View


class CallView(View):
    """One call of a model. `outcome`: "good", "rejected" (the answer could not be used), "failed" or "kept" (an earlier answer, free of cost)."""

    id: str
    at: int
    model: str
    stage: str
    outcome: str
    input_tokens: int
    output_tokens: int
    tries: int
    cost: str
    took: int
    error: str | None


class CallList(View):
    items: list[CallView]


class ShownPage(View):
    """A page of a document, by the hash of its file."""

    document: str
    page: int


class CallDetail(CallView):
    messages: list[dict[str, Any]]
    pictures: list[ShownPage] = Field([], description="Pages that the model was shown as pictures.")
    answer: str | None
    schema_: dict[str, Any] | None = Field(None, alias="schema", serialization_alias="schema")


class ModelView(View):
    name: str
    default: bool
    resting: bool
    url: str = ""
    context: int = 0
    price_in: str = "0"
    price_out: str = "0"
    fallback: list[str] = []
    answers: str = ""
    pictures: int = Field(0, description="Pictures of pages that it may be shown with a request.")


class ModelList(View):
    items: list[ModelView]


class SpendDay(View):
    day: str
    flow: str
    cost: str
    calls: int


class SpendView(View):
    """What models cost by day and flow; a limit of 0 is none."""

    currency: str
    today: str
    days: list[SpendDay]
    spend_run: str
    spend_flow: str
    spend_day: str


class EstimateView(View):
    """What a file would cost; `refused` says why it would not be read, `unknown` why its cost cannot be told beforehand."""

    requests: float
    input_tokens: int
    output_tokens: int
    cost: str
    currency: str
    refused: str
    unknown: str


class TouchedFlow(View):
    """A flow that extracts a record type, and what would be wrong with it after a change."""

    flow: str
    problems: list[str]


class TouchedView(View):
    flows: list[TouchedFlow]


class FieldMeaning(View):
    """How a field comes by its value, as it is found from its schema: manner, kind of value, what it means in the trade ("" when open).

    `twice`: whether a second reading asks for it.
    """

    field: str
    manner: str
    kind: str
    meaning: str
    twice: bool


class MeaningView(View):
    """Every field of a record type."""

    fields: list[FieldMeaning]


class StartView(View):
    """A record type to begin with, as JSON; nothing is kept."""

    text: str
