"""What a small model gets wrong of a talk is put right where the talk itself shows it, or stops the record."""

from __future__ import annotations

from typing import Any

import pytest

from tests.adapters.test_amended import NUMBER, TEXT, rows_of, through

MOMENT = {**TEXT, "pattern": r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$"}
MAIL = {"type": ["string", "null"], "format": "email"}


def call(*said: str) -> bytes:
    """A call to the garden on 2 March 2026, a Monday; who answers speaks first."""
    cues = [f"00:{n:02}.000 --> 00:{n:02}.900\n<v {('Garden', 'Caller')[n % 2]}>{text}" for n, text in enumerate(said)]
    return ("WEBVTT\n\nNOTE recorded 2026-03-02T09:10\n\n" + "\n\n".join(cues) + "\n").encode()


MOVED = (
    "Moss Lane Garden, this is Edda. Thursday the twelfth at half past eight?",
    "I cannot on Thursday, sorry.",
    "Then Friday the thirteenth, at half past eight.",
    "Good, thank you.",
)


@pytest.mark.parametrize("given", ["2026-03-12T08:30", "2026-03-02T08:30"])
def test_the_day_that_is_put_right_counts_and_one_that_is_not_said_with_the_time_does_not(given: str) -> None:
    found = through({"visit": MOMENT}, call(*MOVED), {"visit": given}).reading
    assert found.record["visit"] == ("2026-03-13T08:30" if given == "2026-03-12T08:30" else given)


def test_a_day_that_is_said_with_no_time_gives_way_to_the_one_that_is() -> None:
    said = ("Moss Lane Garden, this is Edda. Tomorrow is full.", "What about Friday the thirteenth at ten fifteen?", "Fine.")
    found = through({"visit": MOMENT}, call(*said), {"visit": "2026-03-03T10:15"}).reading
    assert found.record["visit"] == "2026-03-13T10:15"
    assert any("does not stand so" in each for each in found.changes)


def test_a_number_that_is_taken_back_stops_the_record_and_one_that_is_said_again_does_not() -> None:
    said = ("Moss Lane Garden, this is Edda.", "Six ferns please. No, wait, we have another bed, make it nine.", "Nine ferns.")
    for given, levels in ((6, ["stop"]), (9, [])):
        found = through({"ferns": NUMBER}, call(*said), {"ferns": given}).reading
        assert [each.level for each in found.findings if each.check == "taken back"] == levels
        assert found.record["ferns"] == 9  # what was said in its place by the same speaker


def test_another_number_of_another_speaker_is_not_put_in_the_place_of_one_that_is_taken_back() -> None:
    said = ("Moss Lane Garden, this is Edda. The arch is three hundred more.", "No, leave the arch.", "Then it comes to eighty five.")
    found = through({"arch": NUMBER}, call(*said), {"arch": 300}).reading
    assert found.record["arch"] == 300
    assert [each.level for each in found.findings if each.check == "taken back"] == ["stop"]


def test_the_name_of_who_answers_is_not_that_of_the_caller() -> None:
    said = ("Moss Lane Garden, this is Edda.", "Hello, my name is Rufus Tarn, I would like to come.", "Of course, Rufus Tarn.")
    found = through({"caller": {**TEXT, "description": "Name of the caller"}}, call(*said), {"caller": "Edda"}).reading
    assert found.record["caller"] == "Rufus Tarn"
    assert [each.level for each in found.findings if each.fields == ("/caller",)] == ["stop"]


@pytest.mark.parametrize(
    ("field", "value"),
    [(MAIL, "customer"), (MAIL, "rufus.tarn@garden.example"), ({"type": ["string", "null"], "pattern": r"^\+[1-9][0-9]{6,14}$"}, "the caller")],
)
def test_what_is_none_of_its_kind_or_is_read_out_nowhere_is_left_empty(field: dict[str, Any], value: str) -> None:
    said = ("Moss Lane Garden, this is Edda, at the customer line.", "Hello, the caller here, Rufus Tarn at the door.", "Come in.")
    found = through({"reach": field}, call(*said), {"reach": value}).reading
    assert found.record.get("reach") is None
    assert any(each.compared.get("suggested") == value for each in found.findings)


def test_a_post_under_another_heading_is_no_row_of_the_work_unless_it_is_asked_for() -> None:
    resume = (
        b"Edda Fernsby\n\nWork\nHead gardener, Moss Lane Garden, 05/2019 to 06/2021\nGardener, Hollow Park, 02/2014 to 04/2019\n\n"
        b"Volunteering\nTree warden, Thornby Dale Parish, since 2022\n"
    )
    rows = rows_of(post={**TEXT, "description": "Position"}, at={**TEXT, "description": "Employer"})
    right = [{"post": "Head gardener", "at": "Moss Lane Garden"}, {"post": "Gardener", "at": "Hollow Park"}]
    said = [*right, {"post": "Tree warden", "at": "Thornby Dale Parish"}]
    for about, wanted in (("Jobs, no voluntary work", right), ("Jobs and voluntary work", said)):
        found = through({"jobs": {**rows, "description": about}}, resume, {"jobs": said}).reading
        assert found.record["jobs"] == wanted


@pytest.mark.parametrize(
    ("name", "about", "given", "stopped"),
    [
        ("call_date", "Date of the call", "2026-03-12", True),
        ("call_date", "Date of the call", "2026-03-02", False),
        ("fecha_llamada", "Fecha", "2026-03-12", True),
        ("visit", "Date agreed in the call", "2026-03-12", False),
        ("call_back_date", "Date of the call back", "2026-03-12", False),
    ],
)
def test_a_talk_knows_its_own_date(name: str, about: str, given: str, stopped: bool) -> None:
    said = ("Moss Lane Garden, this is Edda.", "Can I come on the twelfth of March?", "On Thursday the twelfth of March, yes.")
    found = through({name: {**TEXT, "format": "date", "description": about}}, call(*said), {name: given}).reading
    assert any(each.check == "own date" and each.level == "stop" for each in found.findings) is stopped


@pytest.mark.parametrize(
    ("said", "language"),
    [
        (("Viveiro da Ribeira, boa tarde.", "Então são noventa euros no prazo de cinco dias, com a fatura.", "Obrigada, não se preocupe."), "pt"),
        (
            ("Orto botanico, buongiorno.", "Ho prenotato per due, ma mio marito non viene, e sono centoventi euro.", "Va bene, il corso è alle tre."),
            "it",
        ),
    ],
)
def test_a_word_that_denies_in_a_language_puts_nothing_right_within_a_sentence(said: tuple[str, ...], language: str) -> None:
    given = 90 if language == "pt" else 2
    found = through({"figure": NUMBER}, call(*said), {"figure": given}).reading
    assert not [each for each in found.findings if each.check == "taken back"]
