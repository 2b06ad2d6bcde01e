"""What is asked, and what answers are made of: tables without retyping, long documents in parts, repair of what failed."""

from __future__ import annotations

import json
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.documents.model import Document
from metrikon.core.documents.setting import Grid, set_blocks
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning import columns
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.planning.plan import plan
from metrikon.core.extraction.settle import settled
from metrikon.core.records.findings import stops
from metrikon.core.records.types import RecordType, record_type
from metrikon.drivers.extract import extract
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage
from tests.helpers import typed_document

HEAD = "Wexcombe Alpine Society\nNumber           W-17\nNet              36.00\nTax              7.20\nTotal            43.20\n\n"
STRANGE = "Ref      Plant in question        How many    Apiece    Altogether\n"
ROWS = "A1       Gentiana verna           2           6.00      12.00\nB2       Saxifraga                4           6.00      24.00\n"
LINE = {
    "type": "object",
    "required": ["article", "amount"],
    "properties": {"article": {"type": "string"}, "quantity": {"type": "number"}, "amount": {"type": "number"}},
}
ORDER = record_type(
    {
        "type": "object",
        "required": ["number", "total"],
        "properties": {
            "number": {"type": "string"},
            "net": {"type": "number"},
            "tax": {"type": "number"},
            "total": {"type": "number"},
            "lines": {"type": "array", "minItems": 1, "items": LINE},
        },
        "x-metrikon": {"sums": [{"parts": ["/net", "/tax"], "equals": "/total"}, {"parts": ["/lines/*/amount"], "equals": "/net"}]},
    },
    "order",
)
HEADER = {"number": "W-17", "net": 36.00, "tax": 7.20, "total": 43.20}
COLUMNS = {"article": "Plant in question", "quantity": "How many", "amount": "Altogether"}
ASKING = Asking("2026-11-23", "", 20_000, 1)


@pytest.fixture(autouse=True)
def few_rows(monkeypatch: pytest.MonkeyPatch) -> None:
    """Tables of two rows are asked about as long ones are."""
    monkeypatch.setattr(columns, "FEW_ROWS", 0)


class Told:
    """A model that gives the answers it was told, one after the other."""

    room = 20_000
    sees = 0

    def __init__(self, name: str, *answers: Any, room: int = 20_000) -> None:
        self.name = name
        self.left = list(answers)
        self.asked: list[ModelRequest] = []
        self.room = room

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.asked.append(request)
        given = self.left.pop(0)
        return ModelAnswer(given if isinstance(given, str) else json.dumps(given), Usage(1, 1, 1, 0.0))


def given(*answers: Any, stage: str = "ask") -> list[Given]:
    return [Given(stage, json.dumps(each), "m", part) for part, each in enumerate(answers)]


def amounts(record: dict[str, Any]) -> list[str]:
    return [str(line["amount"]) for line in record["lines"]]


def test_columns_whose_heads_tell_nothing_are_asked_for_and_the_cells_are_taken_as_they_stand() -> None:
    index = Index(typed_document(HEAD + STRANGE + ROWS))
    made = plan(ORDER, index, "2026-11-23")
    (ask,) = made.asks
    assert ask.schema["properties"]["lines"]["properties"]["columns"]["properties"]["amount"]["enum"][-1] == "none"
    assert '"Altogether"' in ask.messages[1]["content"]
    reading = settled(ORDER, index, given({**HEADER, "lines": {"columns": COLUMNS}}), ASKING)
    assert reading.record["lines"][0] == {"article": "Gentiana verna", "quantity": Decimal(2), "amount": Decimal("12.00")}
    assert reading.evidence["/lines/1/amount"].quote == "24.00"
    assert reading.next == ()
    assert reading.findings == []


@pytest.mark.parametrize("said", [COLUMNS, {"columns": {name: head.upper() for name, head in COLUMNS.items()}}])
def test_columns_are_understood_in_the_forms_in_which_small_models_write_them(said: dict[str, Any]) -> None:
    reading = settled(ORDER, Index(typed_document(HEAD + STRANGE + ROWS)), given({**HEADER, "lines": said}), ASKING)
    assert amounts(reading.record) == ["12.00", "24.00"]


def test_where_columns_are_not_told_the_rows_are_written_out_and_stay_as_they_are_written() -> None:
    index = Index(typed_document(HEAD + STRANGE + ROWS))
    first = settled(ORDER, index, given({**HEADER, "lines": {"columns": {"article": "none", "amount": "none"}}}), ASKING)
    (ask,) = first.next
    assert ask.stage == "rows"
    rows = [{"article": "Gentiana", "quantity": 2, "amount": 12}, {"article": "Saxifraga", "quantity": 4, "amount": 24}]
    answers = [*given({**HEADER, "lines": {"columns": {"article": "none", "amount": "none"}}}), *given({"lines": rows}, stage="rows")]
    reading = settled(ORDER, index, answers, ASKING)
    assert [line["article"] for line in reading.record["lines"]] == ["Gentiana", "Saxifraga"]


def test_rows_that_a_model_wrote_otherwise_than_the_table_stop_the_record() -> None:
    index = Index(typed_document(HEAD + STRANGE + ROWS))
    answers = [*given({**HEADER, "lines": {"columns": COLUMNS}}), *given({"lines": [{"article": "Gentiana verna", "amount": 12}]}, stage="rows")]
    reading = settled(ORDER, index, answers, ASKING)
    assert amounts(reading.record) == ["12.00", "24.00"]
    assert any(each.check == "rows differ" and each.level == "stop" for each in reading.findings)


def test_120_rows_cost_as_much_as_5() -> None:
    def asked(count: int) -> int:
        rows = "".join(f"A{n:03}     Gentiana lot {n:03}         2           6.00      12.00\n" for n in range(count))
        pages = [HEAD + STRANGE + rows[:3000], *(rows[at : at + 3000] for at in range(3000, len(rows), 3000))]
        return sum(len(message["content"]) for ask in plan(ORDER, Index(typed_document(*pages)), "").asks for message in ask.messages)

    assert asked(120) < 1.25 * asked(5)


def test_a_row_unlike_the_others_is_shown_with_its_number_and_can_be_left_out() -> None:
    more = "".join(f"C{n}       Primula {n}                1           0.00      0.00\n" for n in range(4))
    rows = ROWS + "         Handling                             4.00      4.00\n" + more
    index = Index(typed_document(HEAD + STRANGE + rows))
    ask = plan(ORDER, index, "").asks[0]
    assert "[row 3]" in ask.messages[1]["content"]
    reading = settled(ORDER, index, given({**HEADER, "lines": {"columns": COLUMNS, "not_rows": [3, 1]}}), ASKING)
    assert amounts(reading.record)[:3] == ["12.00", "24.00", "0.00"]  # only a row that was shown as unlike the others may be left out
    assert len(reading.record["lines"]) == 6


def long_document() -> Document:
    sentences = [f"Bed {n:02} was weeded by Imogen Sedge on the {n % 28 + 1} of May and watered after." for n in range(60)]
    return typed_document(
        "Report of the beds\nNumber           R-9\n" + "\n".join(sentences[:40]), "\n".join(sentences[40:]) + "\nTotal            60\n"
    )


BEDS = record_type(
    {
        "type": "object",
        "properties": {
            "number": {"type": "string"},
            "total": {"type": "number"},
            "beds": {"type": "array", "items": {"type": "object", "properties": {"bed": {"type": "string"}}}},
        },
    },
    "beds",
)


def in_parts(room: int) -> Sequence[str]:
    return [ask.messages[1]["content"] for ask in plan(BEDS, Index(long_document()), "", "", room).asks]


def test_a_long_document_is_asked_in_parts_and_no_line_is_lost() -> None:
    parts = in_parts(2000)
    assert len(parts) >= 3
    for n in range(60):
        assert sum(f"Bed {n:02} was" in part.split("[here the part begins]")[-1] for part in parts) == 1
    assert "for context only" in parts[1]
    assert len(in_parts(20_000)) == 1


def test_answers_to_parts_become_one_record_and_rows_at_a_border_stand_once() -> None:
    index = Index(long_document())
    one = {"number": "R-9", "total": None, "beds": [{"bed": "Bed 00"}, {"bed": "Bed 01"}]}
    two = {"number": "May", "total": 60, "beds": [{"bed": "Bed 01"}, {"bed": "Bed 02"}]}
    reading = settled(BEDS, index, given(one, two), Asking("", "", 2000, 0))
    assert [row["bed"] for row in reading.record["beds"]] == ["Bed 00", "Bed 01", "Bed 02"]
    assert (reading.record["number"], reading.record["total"]) == ("R-9", 60)


def test_only_the_failed_fields_are_asked_again_and_a_better_answer_is_taken() -> None:
    paper = LocalPaper(Index(typed_document(HEAD + STRANGE + ROWS)))
    wrong = {**HEADER, "number": "W-99", "lines": {"columns": COLUMNS}}
    model, large = Told("small", wrong), Told("large", {"number": "W-17"})
    found = extract(model, _without_labels(), paper, "2026-11-23", "", large)
    assert list(large.asked[0].schema["properties"]) == ["number"]
    assert "W-99 stands nowhere" in large.asked[0].messages[1]["content"]
    assert found.reading.record["number"] == "W-17"
    assert found.reading.findings == []
    assert "read again by large" in str(found.reading.stages)


def test_what_the_first_model_cannot_mend_goes_to_the_second_and_then_to_a_person() -> None:
    paper = LocalPaper(Index(typed_document(HEAD + STRANGE + ROWS)))
    wrong = {**HEADER, "number": "W-99", "lines": {"columns": COLUMNS}}
    small, large = Told("small", wrong), Told("large", {"number": "W-17"})
    found = extract(small, _without_labels(), paper, "2026-11-23", "", large)
    assert (found.reading.record["number"], found.model) == ("W-17", "small and large")
    small, large = Told("small", wrong), Told("large", {"number": "W-97"})
    found = extract(small, _without_labels(), paper, "2026-11-23", "", large)
    assert any(each.check == "unsupported" for each in found.reading.findings)
    assert (len(small.asked), len(large.asked)) == (1, 1)  # the same model asked again changes nothing


def test_no_more_calls_are_made_than_are_allowed() -> None:
    paper = LocalPaper(Index(typed_document(HEAD + STRANGE + ROWS)))
    model = Told("small", "no", "no", "no", "no")
    assert extract(model, ORDER, paper, "", most_calls=2).asked == 2


def _without_labels() -> RecordType:
    """The same type with a number that no label in the document tells."""
    schema = json.loads(json.dumps(dict(ORDER.schema)))
    schema["properties"]["number"] = {"type": "string", "title": "Our sign", "x-metrikon": {"labels": ["our sign"]}}
    return record_type(schema, "order")


def test_a_model_that_counts_on_and_on_leaves_no_row_out() -> None:
    more = "".join(f"C{n}       Primula {n}                1           0.00      0.00\n" for n in range(4))
    index = Index(typed_document(HEAD + STRANGE + ROWS + "         Handling                             4.00      4.00\n" + more))
    every = list(range(1, 40))
    asked = plan(ORDER, index, "").asks[0].schema["properties"]["lines"]["properties"]["not_rows"]
    assert asked["maxItems"] == len(asked["items"]["enum"])
    reading = settled(ORDER, index, given({**HEADER, "lines": {"columns": COLUMNS, "not_rows": every}}), ASKING)
    assert amounts(reading.record)[:3] == ["12.00", "24.00", "4.00"]


PLOTS = """Plot          Size    Rent      Open
Fern corner   12      14.50     Available
Moss bank     20      22.00     Full, join the list
Reed bed      30      31.25     Available
"""


@pytest.mark.parametrize(("words", "wanted"), [("Available", [True, False, True]), ("Reserved", ["Reserved", "Full, join the list", "Reserved"])])
def test_words_in_a_column_of_yes_and_no_are_understood_where_all_of_them_are(words: str, wanted: list[Any]) -> None:
    row = {
        "plot": {"type": "string"},
        "size": {"type": "number"},
        "rent": {"type": "number"},
        "open": {"type": ["boolean", "null"], "description": "Whether it is available"},
    }
    kind = record_type({"type": "object", "properties": {"plots": {"type": "array", "items": {"type": "object", "properties": row}}}})
    said = {"plots": {"columns": {"plot": "Plot", "size": "Size", "rent": "Rent", "open": "Open"}}}
    reading = settled(kind, Index(typed_document(PLOTS.replace("Available", words))), given(said), ASKING)
    assert [each["open"] for each in reading.record["plots"]] == wanted


def test_what_an_answer_cut_off_never_came_to_is_asked_once_more_by_itself() -> None:
    text = "Ferns of March\nShelf A\nFern\nMoss\nReed\nKeeper Rufus Tarn\nSeen on 2 March 2026\n"
    names = {"type": "array", "items": {"type": "string"}}
    properties = {"shelf": {"type": "string"}, "plants": names, "keeper": {"type": "string"}, "seen": {"type": "string", "format": "date"}}
    kind = record_type({"type": "object", "properties": properties})
    index = Index(typed_document(text))
    cut_off = Given("ask", '{"shelf": "A", "plants": ["Fern", "Moss", "Fern", "Fe', "m")
    reading = settled(kind, index, [cut_off], ASKING)
    (rest,) = reading.next
    assert set(rest.schema["properties"]) == {"keeper", "seen"}
    more = Given("ask", '{"keeper": "Rufus Tarn", "seen": "2026-03-02"}', "m", rest.part)
    whole = settled(kind, index, [cut_off, more], ASKING)
    assert (whole.record["shelf"], whole.record["keeper"], whole.record["seen"]) == ("A", "Rufus Tarn", "2026-03-02")
    assert whole.next == ()
    assert "cut off" in {each.check for each in whole.findings}


def laid_out(heads: tuple[str, ...], rows: list[tuple[str, ...]]) -> Index:
    made, _ = set_blocks([Grid(heads, tuple(rows))])
    return Index(Document("0" * 64, "word", made.pages, made.tables))


JOBS = [
    (f"March {year} - May {year + 1}", f"Gardener\nMoss Lane Nursery\nTwo glasshouses; propagation of ferns and mosses in {year}")
    for year in (2017, 2019, 2021)
]


@pytest.mark.parametrize(
    ("heads", "rows", "asked_by_column"),
    [
        (("", ""), JOBS, False),  # dates beside text: the rows are shown, not cut down
        (("When", "What"), JOBS, True),
        (("", ""), [("Fern", "2.50"), ("Moss", "1.20"), ("Yew", "9.00")], True),
    ],
)
def test_a_table_that_only_lays_text_out_is_no_list_of_rows(heads: tuple[str, ...], rows: list[tuple[str, ...]], asked_by_column: bool) -> None:
    text = {"type": "string"}
    item = {"type": "object", "properties": {"post": text, "price": {"type": "number"}}, "required": ["post"]}
    kind = record_type({"type": "object", "properties": {"name": text, "jobs": {"type": "array", "items": item}}, "required": ["name"]})
    made = plan(kind, laid_out(heads, rows), "2026-11-26")
    assert ("/jobs" in made.tables) is asked_by_column
    shown = made.asks[0].messages[1]["content"]
    assert asked_by_column or all(cell.split("\n")[0] in shown for row in rows for cell in row)


def test_a_list_within_an_object_is_asked_for_with_it() -> None:
    tours = {
        "type": "object",
        "properties": {"day": {"type": "string"}, "hours": {"type": "array", "items": {"type": "string"}, "description": "When they begin"}},
    }
    kind = record_type({"type": "object", "properties": {"garden": {"type": "string"}, "tours": tours}})
    index = Index(typed_document("Fernhill Garden\nTours on Saturday at 11 and at 16\n"))
    asked = plan(kind, index, "2026-05-01").asks
    assert len(asked) == 1
    assert "tours.hours" in asked[0].messages[-1]["content"]
    assert set(asked[0].schema["properties"]["tours"]["properties"]) == {"day", "hours"}
    answer = {"garden": "Fernhill Garden", "tours": {"day": "Saturday", "hours": ["11", "16"]}}
    reading = settled(kind, index, [Given("ask", json.dumps(answer), "m")], Asking("2026-05-01"))
    assert reading.record == answer
    assert not stops(reading.findings)
