"""Numbers that stand in a document in another way than as such: in words, in groups, as ends of ranges, within other print, in two units, as shares."""

from __future__ import annotations

import re
from decimal import Decimal
from itertools import combinations
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.measures import measured
from metrikon.core.extraction.indexing.placed import best_heard, evidence_at, is_share, said_of
from metrikon.core.extraction.indexing.units import unit_of
from metrikon.core.extraction.indexing.words import rests_on, stems
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.meaning import a_sum
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain
from metrikon.core.values.numbers import parse_number

SMALL = 100  # a whole number below it stands within print only as a price, or by a word for what it counts


NEAR_LINES = 3  # lines within which amounts stand that add up to one that is not printed


def a_number_in_words(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number that is said: "two ninety-eight"; nought where the document says that there is none."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool):
        return None
    found = best_heard(index, said_of(index).numbers.get(abs(Decimal(value)), []))
    if found is None and (unit := unit_of(field)):
        found = best_heard(index, measured(index, unit, Decimal(value)), "derived")
    if found is None and value == 0 and (rest := rests_on(field, False, index)) is not None and rest.denied:
        return evidence_at(index, rest.place, 0.7, "said")
    if found is None and value == 0 and _AGAINST & set(re.findall(r"[a-z]+", plain(f"{field.name} {field.title}".replace("_", " ")))):
        all_for = [
            Place(page.number, tuple(range(line.first, line.last)))
            for page in index.document.pages
            for line in page.lines
            if _ALL.search(plain(line.text))
        ]
        return evidence_at(index, all_for[0], 0.7, "derived") if all_for else None
    return found


_AGAINST = {"against", "opposed", "noes", "gegen", "gegenstimmen", "dagegen", "contre", "contra", "contrari", "contro", "tegen", "tegenstemmen", "imod", "emot", "przeciw"}  # fmt: skip


_ALL = re.compile(
    r"\b(?:unanimous(?:ly)?|all in favou?r|all agreed|einstimmig|alle dafur|a l'unanimite|unanimidad|unanimemente|unanimita|unaniem|enstemmigt|enhalligt|jednoglosnie)\b"
)


def amounts_together(field: Field, value: Any, index: Index) -> Evidence | None:
    """An amount that is the sum of two or three that stand on lines close together, such as taxes at several rates."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool) or "number" not in field.types or value == 0:
        return None
    ordered = index.once("amounts of lines", _amounts)
    for number, (at, one, place) in enumerate(ordered):
        following = ordered[number + 1 : number + 1 + 3 * NEAR_LINES]
        near = [(each, spot) for other, each, spot in following if other[0] == at[0] and 0 < other[1] - at[1] <= NEAR_LINES]
        for count in (1, 2):
            for more in combinations(near, count):
                if abs(one + sum(amount for amount, _ in more) - Decimal(value)) <= Decimal("0.005"):
                    return evidence_at(index, Place(place.page, (*place.words, *(n for _, other in more for n in other.words))), 0.75, "derived")
    return None


def _amounts(index: Index) -> list[tuple[tuple[int, int], Decimal, Place]]:
    """Amounts with cents in the order of their lines."""
    found = []
    for at, here in index.numbers_at.items():
        for place, amount in here:
            if place.exact and amount and index.quote(place).rstrip(" €$£")[-3:-2] in (".", ","):
                found.append(((at[0], index.pages[at[0]].line_of[place.words[-1]]), amount, place))
    return sorted(found, key=lambda each: each[0])


_LARGE = re.compile(
    r"(\d{1,4}(?:[.,]\d{1,3})?)\s?(?:(k|K|T€|TEUR|Tsd\.?|mil|mille|thousand|tausend|tys\.?|tis\.?|duizend|tusen|tusind)|M€|M|Mio\.?|million(?:s|en)?|mln|millones|millón|milioni|miljoen|miljoner|mio)(?!\w)",
)


def a_thousand(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number in thousands or millions: "42k", "45 T€", "1.2 Mio"."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool) or value < 1000:
        return None
    found = index.once("large numbers", _large).get(Decimal(value))
    return evidence_at(index, found, 0.8, "mapped") if found else None


def _large(index: Index) -> dict[Decimal, Place]:
    found: dict[Decimal, Place] = {}
    for page in index.document.pages:
        for line in page.lines:
            place = Place(page.number, tuple(range(line.first, line.last)))
            for match in _LARGE.finditer(line.text):
                found.setdefault(Decimal(match[1].replace(",", ".")) * (1000 if match[2] else 1_000_000), place)
            for match in _LARGE_SUM.finditer(line.text):
                found.setdefault(Decimal(match[1].replace(",", ".")) * (1_000_000_000 if match[2] == "bn" else 1_000_000), place)
    return found


_LARGE_SUM = re.compile(r"[€$£] ?(\d{1,4}(?:[.,]\d{1,3})?) ?(m|mn|bn)\b")  # a small m is a million after the sign of a currency alone


def in_groups(field: Field, value: Any, index: Index) -> Evidence | None:
    """A whole number that is printed in groups of three, where one group alone might be taken for decimals: "1.184"."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool) or value != int(value) or abs(Decimal(value)) < 1000:
        return None
    found = index.once("numbers in groups", _in_groups).get(abs(int(value)))
    return evidence_at(index, found, 0.8) if found else None


def _in_groups(index: Index) -> dict[int, Place]:
    found: dict[int, Place] = {}
    for page, segment in index.figured:
        for number in range(segment.first, segment.last):
            match = _GROUPS.fullmatch(page.words[number].text.strip("€$£(),;:"))
            if match and index.mark != match[1]:
                found.setdefault(int(re.sub(r"\D", "", match.group())), Place(page.number, (number,)))
    return found


_GROUPS = re.compile(r"\d{1,3}(?:([.,'’])\d{3})(?:\1\d{3})*")


def of_a_range(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number that is one end of a range whose figures stand in groups: "9500–10 500 zł"."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool) or value != int(value) or value < 1000:
        return None
    found = index.once("ends of ranges", _ends_of_ranges).get(int(value))
    return evidence_at(index, found, 0.8) if found else None


def _ends_of_ranges(index: Index) -> dict[int, Place]:
    found: dict[int, Place] = {}
    for page, segment in index.figured:
        place = Place(page.number, tuple(range(segment.first, segment.last)))
        for match in _RANGE.finditer(segment.text):
            for end in match.groups():
                found.setdefault(int(re.sub(r"\D", "", end)), place)
    return found


_RANGE = re.compile(r"(?<![\d.,])(\d{1,3}(?:[ .\u202f\u00a0]?\d{3})+)\s?[–—-]\s?(\d{1,3}(?:[ .\u202f\u00a0]?\d{3})+)(?![\d.,]\d)")


def in_two_units(field: Field, value: Any, index: Index) -> Evidence | None:
    """A measure that is printed in two units, such as pounds and ounces, feet and inches, and given in the larger."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool):
        return None
    measures = index.once("measures in two units", _in_two_units)
    place = next((place for measure, place in measures if abs(measure - value) <= Decimal("0.006")), None)
    return evidence_at(index, place, 0.75, "derived") if place is not None else None


def _in_two_units(index: Index) -> list[tuple[Decimal, Place]]:
    found = []
    for page, segment in index.figured:
        for match in _TWO_UNITS.finditer(segment.text):
            parts = 16 if match[2].lower().startswith(("lb", "pound")) else 12
            place = Place(page.number, tuple(range(segment.first, segment.last)))
            found.append((Decimal(match[1]) + Decimal(match[3]) / parts, place))
    return found[:MOST_MEASURES]


MOST_MEASURES = 400


_TWO_UNITS = re.compile(r"(\d{1,4}) ?(lbs?|pounds?|ft|feet)\.?,? (\d{1,2}) ?(?:oz|ounces?|in|inch(?:es)?)\b", re.IGNORECASE)


def as_a_fraction(field: Field, value: Any, index: Index) -> Evidence | None:
    """A share between nought and one that is printed as so many per cent."""
    if not isinstance(value, Decimal) or not 0 < value < 1:
        return None
    found = [place for place in index.numbers.get(value * 100, ()) if is_share(place, index)]
    return evidence_at(index, found[0], 0.8, "mapped") if found else None


def within_print(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number that stands within other print: "35€/Std", "4x12", "No12"."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool):
        return None
    if value == int(value) < SMALL:
        price = index.once("whole prices within print", _whole_prices).get(abs(Decimal(value)))
        return evidence_at(index, price, 0.7) if price and a_sum(field) else None
    found = index.once("numbers within print", _within_print).get(abs(Decimal(value)))
    if found and a_sum(field) and is_share(found, index):
        return None
    return evidence_at(index, found, 0.7) if found else None


def _whole_prices(index: Index) -> dict[Decimal, Place]:
    """Small whole numbers that have the sign of a currency and other print about them: "€29/mo"."""
    found: dict[Decimal, Place] = {}
    for page, segment in index.figured:
        for number in range(segment.first, segment.last):
            match = _PRICE.match(page.words[number].text)
            if match:
                found.setdefault(Decimal(match[1] or match[2]), Place(page.number, (number,)))
    return found


_PRICE = re.compile(r"[€$£](\d{1,2})(?![\d.,]\d)|(\d{1,2})[€$£]")


_ANY_NUMBER = re.compile(r"\d{1,3}(?:[.,'’ \u00a0\u202f]\d{3})+(?:[.,]\d{1,4})?(?!\d)|\d+(?:[.,]\d{1,4})?")


def _within_print(index: Index) -> dict[Decimal, Place]:
    found: dict[Decimal, Place] = {}
    for page, segment in index.figured:
        for number in range(segment.first, segment.last):
            text = page.words[number].text
            for match in _ANY_NUMBER.finditer(text) if len(text) <= 60 and not text.isdecimal() else ():
                read = parse_number(match.group(), index.mark)
                if read is not None:
                    found.setdefault(read, Place(page.number, (number,)))
    return found


def labelled_lines(field: Field, value: Any, index: Index) -> Evidence | None:
    """How many lines begin with one label that names what the field counts, such as each recipient of a report."""
    if "integer" not in field.types or not isinstance(value, int) or isinstance(value, bool) or value < LEAST_LINES:
        return None
    wanted = stems(f"{field.worded} {field.schema.get('description') or ''}")
    for label, places in index.once("lines by label", _by_label).items():
        if len(places) == value and wanted & stems(label):
            return evidence_at(index, places[0], 0.7, "derived")
    return None


def _by_label(index: Index) -> dict[str, list[Place]]:
    found: dict[str, list[Place]] = {}
    for page in index.document.pages:
        for line in page.lines:
            match = _LABEL.match(line.text)
            if match:
                found.setdefault(plain(match[1]), []).append(Place(page.number, tuple(range(line.first, line.last))))
    return found


LEAST_LINES = 2


_LABEL = re.compile(r"\s*([^\W\d_][\w -]{1,40}):\s")


def one_of_them(field: Field, value: Any, index: Index) -> Evidence | None:
    """One of something, which goes without saying in a row."""
    if value == 1 and not isinstance(value, bool) and "/*/" in field.shape and field.kind == "amount":
        return Evidence("derived", 0, None, "one, which goes without saying", 0.7)
    return None
