"""What a value may rest on though it stands nowhere as it is: hours, spans of days, names of countries, times between, differences."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.extraction.grounding.between import difference_printed, span, years_since
from metrikon.core.extraction.grounding.hours import an_hour
from metrikon.core.extraction.grounding.misprint import disguised, without_accents
from metrikon.core.extraction.grounding.nothing import for_nothing
from metrikon.core.extraction.grounding.spans import a_day_of_a_span
from metrikon.core.extraction.grounding.support import supported
from metrikon.core.extraction.grounding.worldly import a_month, by_its_name
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import Field, worded
from metrikon.readers.registry import read
from tests.helpers import typed_document

TIME = {"type": "string", "pattern": r"^\d{2}:\d{2}$"}
DAY = {"type": "string", "format": "date"}


def field(name: str, **schema: Any) -> Field:
    return Field(f"/{name}", name.rsplit("/", 1)[-1], schema or {"type": "string"}, False)


def index(text: str) -> Index:
    return Index(typed_document(text))


@pytest.mark.parametrize(
    ("text", "value", "stands"),
    [
        ("Glasshouse open Mo-Fr 8-16, Sa 9–12", "12:00", True),
        ("Abrimos de 10 a 18 h", "18:00", True),
        ("Führung um 14 Uhr", "14:00", True),
        ("Tour at 7 pm", "19:00", True),
        ("Glasshouse open Mo-Fr 8-16", "11:00", False),
        ("12-14 EUR", "13:00", False),
    ],
)
def test_an_hour_stands_where_a_span_or_a_word_makes_a_number_one(text: str, value: str, stands: bool) -> None:
    assert (an_hour(field("opens", **TIME), value, index(text)) is not None) == stands


@pytest.mark.parametrize(
    ("text", "value", "stands"),
    [
        ("Workshop 21.–24.8.2026 in the fernery", "2026-08-21", True),
        ("Corso del 3 al 7 maggio 2026, la serra e il giardino", "2026-05-03", True),
        ("Workshop 21.–24.8.2026 in the fernery", "2026-08-22", False),
        ("Workshop 21.–24.8.2026 in the fernery", "2025-08-21", False),
    ],
)
def test_a_day_stands_where_its_month_and_year_stand_on_its_line(text: str, value: str, stands: bool) -> None:
    assert (a_day_of_a_span(field("from_day", **DAY), value, index(text)) is not None) == stands


def test_a_code_stands_where_its_name_does_in_the_language_of_the_paper() -> None:
    german = index("Die Pflanzen kommen aus Frankreich, und die Beschriftung ist auf Spanisch und nicht auf Latein.")
    assert by_its_name(field("country_of_origin"), "FR", german) is not None
    assert by_its_name(field("label_language"), "es", german) is not None
    assert by_its_name(field("country_of_origin"), "PT", german) is None
    assert by_its_name(field("label"), "FR", german) is None  # nobody asked for a country


def test_months_are_numbers_by_their_names_and_between_two_of_them() -> None:
    text = index("Otevřeno květen–září denně, v zimě je zahrada zavřena a nejsou žádné prohlídky pro veřejnost.")
    months = Field("/months/*", "*", {"type": "integer"}, False)
    stands = [number for number in range(1, 13) if a_month(months, number, text) is not None]
    assert not stands or stands == list(range(stands[0], stands[-1] + 1))
    english = index("The alpine house is open from May through October, and the bookshop is too.")
    assert [number for number in range(1, 13) if a_month(months, number, english) is not None] == [5, 6, 7, 8, 9, 10]


@pytest.mark.parametrize(
    ("text", "stands"), [("Children under 5: free", True), ("Eintritt frei", True), ("Wstęp bezpłatny", True), ("Adults 4.50", False)]
)
def test_nought_is_said_by_a_word(text: str, stands: bool) -> None:
    price = field("price", type="number")
    assert (for_nothing(price, 0, index(text)) is not None) == stands
    assert for_nothing(price, 3, index(text)) is None


@pytest.mark.parametrize("printed", ["elpmaxe.nref@eciffo", "officeSPAM@fern.example"])
def test_an_address_that_a_page_disguises_is_found(printed: str) -> None:
    assert disguised(field("mail", type="string", format="email"), "office@fern.example", index(f"Write to {printed} please")) is not None
    assert disguised(field("mail", type="string", format="email"), "other@fern.example", index(f"Write to {printed} please")) is None


def test_minutes_lie_between_two_times_and_nights_between_two_days() -> None:
    record = {"begins": "13:30", "ends": "15:00", "arrival": "2026-05-01", "departure": "2026-05-04"}
    assert span(field("duration_minutes", type="integer"), Decimal(90), record, "/duration_minutes")
    assert span(field("nights", type="integer"), Decimal(3), record, "/nights")
    assert not span(field("duration_minutes", type="integer"), Decimal(80), record, "/duration_minutes")
    assert not span(field("plants", type="integer"), Decimal(90), record, "/plants")


def test_a_difference_is_looked_for_only_where_one_is_asked_for() -> None:
    text = index("We sowed 340 oaks; last year 290 grew.")
    assert difference_printed(field("increase", type="integer"), Decimal(50), text) == "340 less 290"
    assert difference_printed(field("oaks_dead", type="integer"), Decimal(50), text) is None
    assert difference_printed(field("increase", type="integer"), Decimal(60), text) is None


def test_years_of_work_are_counted_from_the_first_year_to_the_last_or_to_now() -> None:
    text = index("Gardener 2012 to 2016\nHead gardener 2016 to 2021")
    years = field("years_of_experience", type="integer")
    assert years_since(years, Decimal(9), text, "2026-03-01")
    assert years_since(years, Decimal(14), text, "2026-03-01")
    assert years_since(years, Decimal(4), text, "2026-03-01") is None


@pytest.mark.parametrize(
    ("name", "words"), [("validUntil", "valid until"), ("valid_until", "valid until"), ("VATNumber", "vat number"), ("IBAN", "iban")]
)
def test_a_name_is_words_however_they_are_joined(name: str, words: str) -> None:
    assert worded(name) == words


@given(st.text(max_size=60), st.text(max_size=12))
def test_no_rule_fails_on_any_text(text: str, value: str) -> None:
    document = index(text or "x")
    for name, schema in (("opens", TIME), ("day", DAY), ("country", {"type": "string"}), ("mail", {"type": "string", "format": "email"})):
        supported(field(name, **schema), value, document)


def test_a_date_of_a_mail_within_a_mail_is_read() -> None:
    inner = "From: Ben <ben@fern.example>\nSubject: Ferns\nDate: Tue, 03 Mar 2026 10:00:00 +0100\n\nThe ferns come on 9 March 2026.\n"
    outer = f"From: ada@fern.example\nSubject: FW\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=b\n\n--b\n\nSee below.\n--b\nContent-Type: message/rfc822\n\n{inner}\n--b--\n"
    document = Index(read(outer.encode()))
    assert supported(field("due", **DAY), "2026-03-09", document) is not None


@pytest.mark.parametrize(("value", "stands"), [("2026-05-01", True), ("2026-05-31", True), ("2026-05-30", False), ("2026-06-01", False)])
def test_a_period_of_a_month_begins_and_ends_with_it(value: str, stands: bool) -> None:
    assert (supported(field("period", **DAY), value, index("Care of the beds in May 2026")) is not None) == stands


@pytest.mark.parametrize(
    ("text", "value", "stands"),
    [("Tax 19 %", "0.19", True), ("Tax 19 EUR", "0.19", False), ("Budget 1.2 Mio", "1200000", True), ("Budget 45 T€", "45000", True)],
)
def test_shares_and_large_numbers_are_found_as_they_are_printed(text: str, value: str, stands: bool) -> None:
    assert (supported(field("figure", type="number"), Decimal(value), index(text)) is not None) == stands


def test_rules_cost_no_more_for_long_values_and_many_rows() -> None:
    """Counted, not timed: what is looked up is worked out once a document, and a row is set against its own times alone."""
    printed = read("\n".join(f"Bed {n} within 14 days" for n in range(40)).encode())
    pictured = Index(msgspec.structs.replace(printed, pages=tuple(msgspec.structs.replace(page, source="ocr") for page in printed.pages)))
    assert without_accents(field("plant"), "ø" * 100_000, pictured) is None


@pytest.mark.parametrize(
    ("schema", "text", "value", "other"),
    [
        ({"type": "number"}, "Water meter 1.184 m3", Decimal(1184), Decimal(1185)),
        ({"type": "number"}, "Salary 9500–10 500 gross", Decimal(10500), Decimal(10600)),
        ({"type": "number"}, "Weight 11 lb 4 oz", Decimal("11.25"), Decimal("11.5")),
        ({"type": "number"}, "Monthly €29/mo", Decimal(29), Decimal(28)),
        ({"type": "number"}, "Led projects up to $2.4M", Decimal(2_400_000), Decimal(2_500_000)),
        ({"type": "string"}, "Licences B/BE", "BE", "CE"),
        ({"type": "string"}, "Calle Almendro ocho, bajo, el huerto de la calle", "8", "9"),
    ],
)
def test_figures_and_codes_are_found_as_people_print_them(schema: dict[str, Any], text: str, value: Any, other: Any) -> None:
    price = field("monthly_price", **schema)
    assert supported(price, value, index(text)) is not None
    assert supported(price, other, index(text)) is None


@pytest.mark.parametrize(("text", "numbers"), [("6×7.00", [6, 7]), ("2x", [2]), ("x 40.00", [40]), ("@18.50", [Decimal("18.5")])])
def test_figures_beside_a_times_sign_are_figures_of_their_own(text: str, numbers: list[Any]) -> None:
    found = index(f"Fern {text}").numbers
    assert all(any(place.exact for place in found[Decimal(number)]) for number in numbers)


def test_a_form_in_a_text_means_a_day_only_where_a_day_is_asked_for() -> None:
    text = index("Gardener since 04/2015 at Fernhill")
    assert supported(field("begin"), "2015-04", text) is not None
    assert supported(field("begin"), "2015-05", text) is None
    assert supported(field("employer"), "2015-04", text) is None


@pytest.mark.parametrize(
    ("text", "value", "stands"),
    [
        ("The committee meets on the second Thursday of January at 20.00", "2027-01-14T20:00", True),
        ("The committee meets on the second Thursday of January at 20.00", "2027-01-21T20:00", False),
    ],
)
def test_a_weekday_of_a_month_is_a_day(text: str, value: str, stands: bool) -> None:
    assert (supported(field("next", type="string", format="date-time"), value, index(text)) is not None) == stands


def test_a_word_parted_within_a_cell_is_found_downwards() -> None:
    text = index("Greenhouse ventila-     Irrigation\ntion control            computer\n")
    assert supported(field("article"), "Greenhouse ventilation control", text) is not None
    assert supported(field("article"), "Greenhouse ventilation computer", text) is None


@pytest.mark.parametrize(
    ("description", "kind"),
    [
        ("Return, YYYY-MM-DDTHH:MM", "moment"),
        ("Tag, JJJJ-MM-TT", "date"),
        ("AAAA-MM", "month"),
        ("HH:MM, 24 h", "time"),
        ("YYYY-MM or YYYY-MM-DD", "text"),
        ("Name", "text"),
    ],
)
def test_a_form_that_a_description_spells_out_tells_the_kind(description: str, kind: str) -> None:
    assert field("value", type="string", description=description).kind == kind
