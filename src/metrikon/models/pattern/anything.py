"""A record of any type from any document without a language model: by what its fields mean and the words around typed values.

Fields are given their values together: the likeliest pair of field and value first, no place twice, and figures that add up before
others. What has no label is found by its form and place: the sender, the first date, a currency, an address, a person's name.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from itertools import product
from typing import Any

from metrikon.core.documents.model import Table
from metrikon.core.extraction.grounding.support import a_sign
from metrikon.core.extraction.indexing.index import Index, Place, has_digit
from metrikon.core.extraction.indexing.words import rests_on
from metrikon.core.records.adding import shown_product
from metrikon.core.records.meaning import concept_of, meaning, stems_of, words_of_its_own
from metrikon.core.records.shapes import takes
from metrikon.core.records.types import Field, RecordType, resolved
from metrikon.core.values.numbers import CURRENCY_CODES
from metrikon.models.pattern.found import Found
from metrikon.models.pattern.generic import Option, first_date, options, typed
from metrikon.models.pattern.mentions import mentions
from metrikon.models.pattern.rows import list_rows
from metrikon.models.pattern.sections import section_items, section_rows
from metrikon.models.pattern.sender import large_print, sender
from metrikon.models.pattern.talk import said_options

DOUBTED = 0.58  # the most that a value has which a person must look at
LEAST = 0.42  # of a score from which a value is taken
TRIED = 5
ADDS_UP = 0.25  # what figures that add up are likelier by
CENT = Decimal("0.02")
A_TOTAL = 0.6  # weight of what a field means from which it is the total, and not just some amount


def read_any(kind: RecordType, index: Index, header: list[Field], found: Found) -> None:
    """Give values to header fields and lists that have no labels of their own."""
    used = _lists(kind, index, found)
    wanted = [each for each in header if not found.has(each)]
    choices = {each.shape: (said_options(each, index) or options(each, index, used))[:TRIED] for each in wanted}
    _by_print(wanted, choices, index)
    _add_up(wanted, choices)
    _assign(wanted, choices, found)
    for each in wanted:
        if not found.has(each):
            for rule in _OF_CONCEPT.get(concept_of(each), ()):
                given = rule(each, index)
                if given is not None:
                    found.put(each, given.value, given.place, round(min(DOUBTED, given.score), 3))
                    break
    for each in wanted:
        if not found.has(each) and each.kind in ("yes/no", "choice", "currency"):
            _decide(each, index, found)


def _lists(kind: RecordType, index: Index, found: Found) -> set[tuple[int, int]]:
    """Read the lists; the words that they stand on are returned."""
    used: set[tuple[int, int]] = set()
    taken: list[Table] = []
    if index.document.sentences:
        return used  # turns of a talk are no rows
    for pointer, fields in kind.lists.items():
        name = pointer[1:]
        if pointer.count("/") != 1 or name in found.record or any("labels" in each.ours for each in fields):
            continue
        about = str(resolved(kind.schema, kind.schema["properties"][name]).get("description") or "")
        rows = section_rows(pointer, fields, about, index)
        if not rows.rows:
            rows, table = list_rows(pointer, fields, index, taken)
            taken += [table] if table is not None else []
        if rows.rows and _worth_saying(fields, rows.rows):
            found.record[name] = rows.rows
            found.places.update(rows.places)
            found.sure.update(_row_sure(name, fields, rows.rows, rows.sure))
            used |= rows.used
    for each in kind.fields:
        if each.shape.endswith("/*") and each.shape.count("/") == 2 and each.kind == "text":
            name = each.shape[1:-2]
            about = str(resolved(kind.schema, kind.schema["properties"][name]).get("description") or "")
            items = section_items(name, about, index)
            if items and name not in found.record:
                found.record[name] = [text for text, _ in items]
                for number, (_, place) in enumerate(items):
                    found.places[f"/{name}/{number}"], found.sure[f"/{name}/{number}"] = place, DOUBTED
    return used


FILLED = 0.4  # share of the values of its rows that a list must have, or nothing is said: what fills less was hardly ever a row


def _worth_saying(fields: tuple[Field, ...], rows: list[dict[str, Any]]) -> bool:
    """Whether rows hold enough of what they are to hold for them to be rows."""
    return sum(len(row) for row in rows) >= FILLED * len(fields) * len(rows)


def _by_print(wanted: list[Field], choices: dict[str, list[Option]], index: Index) -> None:
    """What large print and letterheads say beside labels: who sends, who applies."""
    for each in wanted:
        rule = {"person": _name, "sender": _sender}.get(concept_of(each)) if each.kind == "text" else None
        given = rule(each, index) if rule and not index.document.sentences else None
        if given is not None:
            choices[each.shape] = sorted([given, *choices[each.shape]], key=lambda option: -option.score)[:TRIED]


def _add_up(wanted: list[Field], choices: Mapping[str, list[Option]]) -> None:
    """Figures of net, tax and total that add up are likelier than others."""
    by: dict[str, list[Field]] = {}
    for each in wanted:
        if each.kind == "amount" and choices[each.shape]:
            by.setdefault(concept_of(each), []).append(each)
    net, taxes, gross = by.get("net", [])[:1], by.get("tax", [])[:2], by.get("gross", [])[:1]
    if not gross:
        return
    for parts in ([*net, *taxes], [*net, *taxes[:1]]):
        fields = [*parts, *gross]
        if len(fields) < 3:
            continue
        best: tuple[float, tuple[Option, ...]] | None = None
        for choice in product(*(choices[each.shape][:TRIED] for each in fields)):
            *some, whole = (each.value for each in choice)
            if whole and abs(sum(some, Decimal(0)) - whole) <= CENT and len({id(each.mention) for each in choice}) == len(choice):
                score = sum(each.score for each in choice)
                if best is None or score > best[0]:
                    best = (score, choice)
        if best is not None:
            for option in best[1]:
                option.score = min(0.98, option.score + ADDS_UP)
                option.adds_up = True
            return


def _assign(wanted: list[Field], choices: Mapping[str, list[Option]], found: Found) -> None:
    pairs = sorted(
        ((option.score, number, each, option) for number, each in enumerate(wanted) for option in choices[each.shape]), key=lambda p: (-p[0], p[1])
    )
    taken: set[tuple[int, int]] = set()
    for score, _, each, option in pairs:
        spot = {(option.place.page, number) for number in option.place.words} if option.place else set()
        if score < LEAST or found.has(each) or (spot & taken):
            continue
        close = [other for other in choices[each.shape] if other is not option and option.score - other.score < 0.05]
        taken |= spot
        found.put(each, option.value, option.place, _sure(each, option, bool(close)))


def _sure(each: Field, option: Option, close: bool) -> float:
    """How sure a value is: what stands by its very label, in a form that only its kind has, or adds up, may go unattended; the rest not.

    The figures are shares of right values on documents of other hands.
    """
    doubted = round(min(DOUBTED, option.score), 3)
    if option.adds_up:
        return 0.92
    if close:
        return doubted
    if each.kind in ("date", "iban", "mail", "phone", "time") and option.score >= 0.8 and _called_so(each, option):
        return 0.85
    return doubted


def _called_so(each: Field, option: Option) -> bool:
    """Whether what a field is called besides its kind stands by the value: "Date" alone is not the date in a stamp."""
    own = words_of_its_own(each)
    return not own or option.mention is None or bool(own & stems_of(label for label, _ in option.mention.labels))


def _row_sure(name: str, fields: tuple[Field, ...], rows: list[dict[str, Any]], sure: Mapping[str, float]) -> dict[str, float]:
    """Rows are sure where quantity × price = amount holds in them; all others are looked at."""
    shown = shown_product(rows, [each for each in fields if each.kind == "amount"])
    if shown is not None and (concept_of(shown[0].amount) == "unit price" or "line amount" in {concept_of(each) for each in shown[0].factors}):
        shown = None  # price and amount may have changed places
    broken = set(shown[1]) if shown else set()
    part = {each.name for each in shown[0].parts} if shown else set()
    texts = {each.name for each in fields if each.kind == "text"}
    found = {}
    for pointer, value in sure.items():
        _, _, number, field = pointer.split("/", 3)
        good = (
            shown is not None
            and int(number) not in broken
            and (field in part or (field in texts and concept_of_name(fields, field) == "description"))
        )
        found[pointer] = 0.9 if good else min(DOUBTED, value)
    return found


def concept_of_name(fields: tuple[Field, ...], name: str) -> str:
    """The concept of one of some fields, by its name."""
    return next((concept_of(each) for each in fields if each.name == name), "")


def _decide(each: Field, index: Index, found: Found) -> None:
    """Yes or no, an option, a currency: what the document speaks of most."""
    if each.kind == "currency":
        code = index.currency or next((code for code in CURRENCY_CODES if a_sign(each, code, index)), None)
        if code and takes(each.schema.get("pattern"), code):
            found.put(each, code, None, 0.85)
        return
    if each.kind == "yes/no":
        rest = rests_on(each, True, index)
        if rest is not None and rest.sure > 0.7 and not (each.nullable and index.document.sentences):
            found.put(each, not rest.denied, rest.place, 0.5)
        elif not each.nullable:
            found.put(each, False, None, 0.5)
        return
    if index.document.sentences and each.nullable:
        return  # what a talk comes to is not said in one sentence
    rests = [
        (rest.sure, option, rest)
        for option in each.schema["enum"]
        if option is not None and (rest := rests_on(_only(each, str(option)), str(option), index)) is not None
    ]
    if rests:
        _, option, rest = max(rests, key=lambda r: r[0])
        found.put(each, option, rest.place, 0.45)


def _only(each: Field, option: str) -> Field:
    """The field as one that asks for an option alone."""
    return Field(each.shape, "x", {"enum": [option], "x-metrikon": {"means": (each.ours.get("means") or {})}}, False)


Rule = Callable[[Field, Index], "Option | None"]


def _sender(each: Field, index: Index) -> Option | None:
    guess = sender(index)
    if guess:
        return Option(guess.text, guess.place, min(0.85, 0.4 + guess.score / 12))
    return _large(each, index)


def _large(each: Field, index: Index) -> Option | None:
    """The largest print at the top of the first page."""
    guess = large_print(index)
    return Option(guess.text, guess.place, guess.score) if guess else None


def _name(each: Field, index: Index) -> Option | None:
    """A person's name in large print at the top: two to four words that begin with capitals."""
    guess = large_print(index)
    if guess and 2 <= len(guess.text.split()) <= 5 and not has_digit(guess.text):
        return Option(guess.text, guess.place, 0.75)
    return None


def _first_date(each: Field, index: Index) -> Option | None:
    found = first_date(index)
    return Option(found[0], found[1], 0.55) if found and each.kind == "date" else None


def _first_of(kind: str, score: float) -> Rule:
    def rule(each: Field, index: Index) -> Option | None:
        every = [m for m in mentions(index) if m.kind == kind]
        mention = min(every, key=lambda m: (m.place.page, m.line), default=None)
        if mention is None:
            return None
        option = typed(each, mention, index, set())
        if option is None:
            from metrikon.core.extraction.indexing.forms import formed
            from metrikon.core.values.phones import parse_phone

            value = (
                parse_phone(str(mention.value), index.phone_country) if kind == "phone" else formed(each, str(mention.value), index) or mention.value
            )
            return Option(value, mention.place, score) if value and takes(each.schema.get("pattern"), str(value)) else None
        return Option(option.value, option.place, score)

    return rule


_POSTCODE = re.compile(
    r"\b(?:[A-Z]{1,2}-)?(\d{5}|\d{4}(?: ?[A-Z]{2})?)\s+([^\W\d_][\w'’. -]{2,40})|([^\W\d_][\w'’ -]{2,30})\s+([A-Z]{1,2}\d{1,2}[A-Z]? \d[A-Z]{2})\b"
)


def _towns(index: Index) -> Iterator[tuple[str, Place, str]]:
    """Towns beside their postal codes, with the whole of what stands there."""
    for page in index.document.pages if index.document.pages[0].part else index.document.pages[:2]:
        for line in page.lines:
            for segment in line.segments:
                match = _POSTCODE.search(segment.text)
                if match:
                    town = re.split(r"\s+[·|•–-]\s+|,|\s{2,}", (match.group(2) or match.group(3)))[0].strip(" ,.")
                    words = tuple(n for n in range(segment.first, segment.last) if page.words[n].text.strip(",.·") in town.split())
                    if words:
                        yield town, Place(page.number, words), segment.text


def _town(each: Field, index: Index) -> Option | None:
    found = next(_towns(index), None)
    return Option(found[0], found[1], 0.6) if found else None


def _card(each: Field, index: Index) -> Option | None:
    """Figures beside asterisks."""
    for page in index.document.pages:
        for line in page.lines:
            match = re.search(r"(?:[*xX•.#]{2,}[ -]?)+(\d{4})\b", line.text)
            if match:
                words = tuple(n for n in range(line.first, line.last) if page.words[n].text.endswith(match.group(1)))
                if words:
                    return Option(match.group(1), Place(page.number, words), 0.8)
    return None


def _total(each: Field, index: Index) -> Option | None:
    """The largest amount in the lower part of the paper."""
    money = [m for m in mentions(index) if m.kind == "amount" and m.decimals == 2]
    best = max(money, key=lambda m: (m.value, m.line), default=None)
    told = dict(meaning(each)).get("gross", 0.0)
    return Option(best.value, best.place, 0.45) if best and told >= A_TOTAL else None


_OF_CONCEPT: dict[str, tuple[Rule, ...]] = {
    "sender": (_sender,),
    "employer": (_sender,),
    "person": (_name,),
    "page title": (_large,),
    "date": (_first_date,),
    "time": (_first_of("time", 0.5),),
    "mail": (_first_of("mail", 0.7),),
    "phone": (_first_of("phone", 0.6),),
    "mobile": (_first_of("phone", 0.55),),
    "web": (_first_of("web address", 0.55),),
    "iban": (_first_of("iban", 0.8),),
    "town": (_town,),
    "card": (_card,),
    "gross": (_total,),
}
