"""Rows of a list without labels: the columns of a table by what their heads and figures say, else lines that end in an amount."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from itertools import permutations
from typing import Any

from metrikon.core.documents.model import Page, Table
from metrikon.core.extraction.indexing.index import Index, Place, has_digit
from metrikon.core.extraction.parsing.coerce import asks_positive
from metrikon.core.extraction.planning.columns import cell_value
from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.records.meaning import concept_of, label_fit
from metrikon.core.records.types import Field
from metrikon.core.values.numbers import parse_number

LEAST_TABLE = 1.1  # of agreement between heads and fields
CENT = Decimal("0.02")
_ENDS = frozenset(("net", "tax", "gross", "paid", "balance", "discount", "change", "tip", "rounding", "card", "payment method", "withholding"))
_TIMES = re.compile(r"^(\d+(?:[.,]\d{1,3})?)\s?(?:[x×*@]|stk\.?|pcs)$", re.IGNORECASE)
_MONEY = re.compile(r"\d[.,]\d{2}(?!\d)")


@dataclass
class Rows:
    """The rows of a list with the places of their values, and the words they stand on."""

    rows: list[dict[str, Any]] = field(default_factory=list)
    places: dict[str, Place] = field(default_factory=dict)
    sure: dict[str, float] = field(default_factory=dict)
    used: set[tuple[int, int]] = field(default_factory=set)

    def put(self, pointer: str, values: Mapping[str, tuple[Any, Place, float]]) -> None:
        """Add a row."""
        for name, (_, place, sure) in values.items():
            at = f"{pointer}/{len(self.rows)}/{name}"
            self.places[at], self.sure[at] = place, sure
            self.used.update((place.page, number) for number in place.words)
        self.rows.append({name: value for name, (value, _, _) in values.items()})


def list_rows(pointer: str, fields: Sequence[Field], index: Index, taken: Sequence[Table]) -> tuple[Rows, Table | None]:
    """The rows of a list of objects, and the table they were taken from."""
    best: tuple[float, Table, dict[str, int]] | None = None
    for table in index.document.tables:
        if table not in taken and table.rows and len(table.rows[0]) >= 2:
            columns, score = _columns(fields, table, index)
            if score >= LEAST_TABLE and len(columns) >= 2 and (best is None or score > best[0]):
                best = (score, table, columns)
    if best is not None:
        return _from_table(pointer, fields, best[1], best[2], index), best[1]
    amounts = [each for each in fields if each.kind == "amount"]
    return (_item_lines(pointer, fields, index), None) if amounts else (Rows(), None)


def _columns(fields: Sequence[Field], table: Table, index: Index) -> tuple[dict[str, int], float]:
    """Which column holds which field, and how well heads and figures agree with that."""
    kinds = [_holds(table, n, index) for n in range(len(table.rows[0]))]
    heads = [cell.text for cell in table.header] if table.header else [""] * len(kinds)
    pairs = []
    for each in fields:
        for number, head in enumerate(heads[: len(kinds)]):
            fit = label_fit(each, head) if head else 0.0
            share = kinds[number].get(each.kind, kinds[number]["text"] if each.kind == "text" else 0.0)
            if each.kind == "yes/no":
                share = 0.8
            if each.kind == "amount" and _counts_up(table, number):
                share *= 0.3
            if (
                each.kind == "text"
                and max(kinds[number]["amount"], kinds[number]["code"]) > 0.8
                and concept_of(each) not in ("article number", "number")
            ):
                share = 0.2
            if fit > 0.3 and share > 0.3:
                pairs.append((fit * share, each.name, number))
    columns: dict[str, int] = {}
    score = 0.0
    for fit, name, number in sorted(pairs, key=lambda pair: -pair[0]):
        if name not in columns and number not in columns.values():
            columns[name] = number
            score += fit
    score += _fill(fields, table, columns, kinds, index)
    _by_products(fields, table, columns, index)
    return columns, score


def _by_products(fields: Sequence[Field], table: Table, columns: dict[str, int], index: Index) -> None:
    """Price and amount change places where quantity × price says so."""
    by = {concept_of(each): each.name for each in fields if each.kind == "amount" and each.name in columns}
    others = [by[concept] for concept in ("unit price", "line amount") if concept in by]
    if "quantity" not in by or len(others) != 2:
        return
    price, amount = others

    def holds(one: str, whole: str) -> int:
        count = 0
        for row in table.rows:
            values = [_number(row[columns[name]].text, index) for name in (by["quantity"], one, whole)]
            count += None not in values and abs(abs(values[0] * values[1]) - abs(values[2])) <= CENT  # type: ignore[operator,arg-type]
        return count

    if holds(amount, price) > holds(price, amount):
        columns[price], columns[amount] = columns[amount], columns[price]


def _number(text: str, index: Index) -> Decimal | None:
    return parse_number(text, index.mark) or (parse_number(text.split()[0], index.mark) if text.split() else None)


def _counts_up(table: Table, column: int) -> bool:
    """Whether a column only numbers the rows."""
    texts = [row[column].text.rstrip(".") for row in table.rows[:40] if column < len(row)]
    return len(texts) > 1 and texts == [str(number) for number in range(1, len(texts) + 1)]


_CODE = re.compile(r"(?=.*\d)(?=.*[^\W\d])[\w./-]{3,20}")  # one word of letters and figures


def _holds(table: Table, column: int, index: Index) -> dict[str, float]:
    """Which share of a column's cells hold values of each kind."""
    texts = [row[column].text for row in table.rows[:40] if column < len(row) and row[column].text]
    if not texts:
        return {"amount": 0.0, "text": 0.0, "date": 0.0, "percent": 0.0, "code": 0.0}
    numbers = sum(
        1
        for text in texts
        if parse_number(text.split()[0] if len(text.split()) > 1 else text, index.mark) is not None or parse_number(text, index.mark) is not None
    )
    dates = sum(1 for text in texts if re.search(r"\d{1,4}[./-]\d{1,2}[./-]\d{2,4}|\d{1,2}\.? [^\W\d]{3,}", text))
    words = sum(1 for text in texts if any(c.isalpha() for c in text))
    return {
        "amount": numbers / len(texts),
        "date": dates / len(texts),
        "text": max(0.3, words / len(texts)),
        "percent": sum("%" in text for text in texts) / len(texts),
        "code": sum(bool(_CODE.fullmatch(text)) for text in texts) / len(texts),
    }


def _fill(fields: Sequence[Field], table: Table, columns: dict[str, int], kinds: Sequence[Mapping[str, float]], index: Index) -> float:
    """Columns without a telling head: the widest text is the description, figures by quantity × price = amount."""
    free = [n for n in range(len(kinds)) if n not in columns.values()]
    score = 0.0
    for each in fields:
        if each.name in columns or each.kind != "text" or concept_of(each) not in ("description", "person", "", "employer", "job title"):
            continue
        wide = {n: sum(len(row[n].text) for row in table.rows if n < len(row)) for n in free if kinds[n]["amount"] < 0.5}
        if wide and each is next((f for f in fields if f.kind == "text"), None):
            columns[each.name] = max(wide, key=lambda n: wide[n])
            free.remove(columns[each.name])
            score += 0.4
    open_amounts = [each for each in fields if each.kind == "amount" and each.name not in columns]
    figures = [n for n in free if kinds[n]["amount"] >= 0.6]
    for each in open_amounts:
        percent = concept_of(each) == "tax rate"
        fitting = [n for n in figures if (kinds[n]["percent"] > 0.5) == percent]
        if len(fitting) == 1 or (fitting and percent):
            columns[each.name] = fitting[0]
            figures.remove(fitting[0])
            score += 0.3
    return score


def _from_table(pointer: str, fields: Sequence[Field], table: Table, columns: Mapping[str, int], index: Index) -> Rows:
    found = Rows()
    for row in table.rows:
        values: dict[str, tuple[Any, Place, float]] = {}
        for each in fields:
            number = columns.get(each.name)
            if number is None or number >= len(row) or not row[number].words:
                continue
            value = _yes_no(row[number].text) if each.kind == "yes/no" else cell_value(each, row[number], index)
            if value is not None:
                values[each.name] = (_typed(each, value), Place(row[number].page, row[number].words), 0.85)
        texts = [cell.text for cell in row if cell.text]
        if values and not _is_sum(texts, values, fields):
            _second_lines(fields, values, index)
            found.put(pointer, values)
            found.used.update((cell.page, number) for cell in row for number in cell.words)
    found.used.update((cell.page, number) for cell in table.header for number in cell.words)
    return found


def _second_lines(fields: Sequence[Field], values: dict[str, tuple[Any, Place, float]], index: Index) -> None:
    """A cell of two lines holds the description on its first and its detail on the second, where a row has a field for it."""
    by = {concept_of(each): each for each in reversed(fields) if each.kind == "text"}
    first, second = by.get("description"), by.get("detail")
    if first is None or second is None or first.name not in values or second.name in values:
        return
    _, place, sure = values[first.name]
    page = index.pages[place.page]
    lines: dict[int, list[int]] = {}
    for number in place.words:
        lines.setdefault(page.line_of[number], []).append(number)
    if len(lines) > 1:
        head, *rest = lines.values()
        more = [number for words in rest for number in words]
        values[first.name] = (" ".join(page.words[n].text for n in head), Place(place.page, tuple(head)), sure)
        values[second.name] = (" ".join(page.words[n].text for n in more), Place(place.page, tuple(more)), sure)


_NO = frozenset([
    "no", "none", "not", "nein", "nicht", "kein", "keine", "ausverkauft", "belegt", "non", "pas", "complet", "epuise", "aucun", "agotado",
    "completo", "esaurito", "nee", "niet", "uitverkocht", "vol", "full", "sold", "unavailable", "booked", "taken", "esgotado", "udsolgt",
    "slutsald", "brak"
])  # fmt: skip


def _yes_no(text: str) -> bool:
    """Whether a cell says yes: a mark or a word that denies nothing."""
    return bool(text.strip(" –—-")) and not any(word in _NO for word in words_of(text))


def _typed(field: Field, value: Any) -> Any:
    """A value of a cell as its field asks for it."""
    if isinstance(value, Decimal) and value < 0 and asks_positive(field.schema):
        value = -value
    if (
        field.kind == "amount"
        and isinstance(value, Decimal)
        and "integer" in field.types
        and "number" not in field.types
        and value == value.to_integral_value()
    ):
        return int(value)
    return value


def _is_sum(texts: Sequence[str], values: Mapping[str, Any], fields: Sequence[Field]) -> bool:
    """Whether a row of a table is a sum, not an item: it begins with the word for one and fills few columns."""
    named = next((text for text in texts if any(c.isalpha() for c in text)), "")
    return bool({concept for concept, at, _ in concepts_in(named) if at == 0} & _ENDS) and len(values) <= max(1, len(fields) // 2)


@dataclass
class _Item:
    """A line that may be an item: its text and its figures."""

    page: Page
    line: int
    words: list[int]  # of the text before the figures
    numbers: list[tuple[Place, Decimal, bool]]  # with cents


def _item_lines(pointer: str, fields: Sequence[Field], index: Index) -> Rows:
    """Lines with a text and an amount at their end, one after the other; a text alone belongs to the figures under it."""
    by = {concept_of(each): each for each in reversed(fields)}
    text_field = by.get("description") or next((each for each in fields if each.kind == "text"), None)
    amount_field = by.get("line amount") or by.get("price") or next((each for each in reversed(fields) if each.kind == "amount"), None)
    if text_field is None or amount_field is None:
        return Rows()
    found, held = Rows(), None
    for item in _lines(index):
        begins = {concept for concept, at, _ in concepts_in(" ".join(item.page.words[n].text for n in item.words)) if at == 0}
        money = [each for each in item.numbers if each[2]]
        if found.rows and begins & _ENDS and money:
            break
        if not money:
            held = item if item.words and not item.numbers else None
            continue
        if begins & _ENDS:
            held = None
            continue
        words = item.words
        source = item
        if (
            held is not None
            and len([w for w in words if any(c.isalpha() for c in item.page.words[w].text) and len(item.page.words[w].text) > 1]) == 0
        ):
            words, source = held.words, held
        if not words:
            held = None
            continue
        values = _item_values(item, source, words, text_field, amount_field, by, money)
        held = None
        if values:
            found.put(pointer, values)
    return found if len(found.rows) >= 1 else Rows()


def _item_values(
    item: _Item,
    source: _Item,
    words: Sequence[int],
    text_field: Field,
    amount_field: Field,
    by: Mapping[str, Field],
    money: Sequence[tuple[Place, Decimal, bool]],
) -> dict[str, tuple[Any, Place, float]]:
    page = source.page
    texts = [page.words[n].text for n in words]
    values: dict[str, tuple[Any, Place, float]] = {}
    amount_place, amount, _ = money[-1]
    quantity, price = by.get("quantity"), by.get("unit price") or by.get("price")
    factors = _factors(item, amount)
    lead = re.match(r"^(\d{1,4})$", texts[0]) if len(texts) > 1 else None
    if factors is None and lead and quantity:
        factors = (Decimal(lead.group(1)), Place(page.number, (words[0],)), None, None)
    if lead and (factors is not None and factors[0] == Decimal(lead.group(1))):
        words, texts = words[1:], texts[1:]
    while texts and (_TIMES.match(texts[0]) or texts[0] in ("x", "×", "*")):
        words, texts = words[1:], texts[1:]
    while texts and not any(c.isalpha() for c in texts[-1]):
        words, texts = words[:-1], texts[:-1]
    if not texts:
        return {}
    values[text_field.name] = (" ".join(texts), Place(page.number, tuple(words)), 0.8)
    values[amount_field.name] = (_typed(amount_field, amount), amount_place, 0.85)
    if quantity is not None and quantity is not amount_field:
        count, place = (factors[0], factors[1]) if factors else (Decimal(1), amount_place)
        values[quantity.name] = (_typed(quantity, count), place, 0.85 if factors else 0.6)
    if price is not None and price is not amount_field:
        one, place = (factors[2], factors[3]) if factors and factors[2] is not None and factors[3] is not None else (amount, amount_place)
        if factors and factors[2] is None and factors[0]:
            one = (amount / factors[0]).quantize(Decimal("0.01")) if factors[0] != 1 else amount
        values[price.name] = (one, place, 0.8)
    rate = by.get("tax rate")
    percents = [each for each in item.numbers if "%" in item.page.words[each[0].words[-1]].text]
    if rate is not None and percents:
        values[rate.name] = (_typed(rate, percents[-1][1]), percents[-1][0], 0.8)
    return values


def _factors(item: _Item, amount: Decimal) -> tuple[Decimal, Place, Decimal | None, Place | None] | None:
    """Two numbers of a line whose product is its amount: quantity (without cents, or the smaller) and price."""
    for (one_place, one, one_money), (two_place, two, two_money) in permutations(item.numbers, 2):
        if (
            (one_place.words[0] < two_place.words[0] or not one_money)
            and abs(one * two - amount) <= CENT
            and two_money
            and (not one_money or one <= two)
            and two_place != item.numbers[-1][0]
        ):
            return one, one_place, two, two_place
    return None


def _lines(index: Index) -> list[_Item]:
    found = []
    for page in index.document.pages:
        for number, line in enumerate(page.lines):
            numbers: list[tuple[Place, Decimal, bool]] = []
            end = line.first
            taken: set[int] = set()
            for at in range(line.first, line.last):
                here = index.numbers_at.get((page.number, at), ())
                longest = max(here, key=lambda each: len(each[0].words), default=None)
                if (
                    longest is not None
                    and at not in taken
                    and not (longest[0].words and not longest[0].exact and not has_digit(index.quote(longest[0])[-1:]))
                ):
                    taken.update(longest[0].words)
                    text = index.quote(longest[0])
                    numbers.append((longest[0], longest[1], bool(_MONEY.search(text))))
            first_money = min((place.words[0] for place, _, cents in numbers if cents), default=line.last)
            end = first_money
            for place, _, cents in sorted(numbers, key=lambda each: -each[0].words[0]):
                if place.words[-1] == end - 1 and not cents and place.words[0] > line.first:
                    end = place.words[0]
            words = list(range(line.first, end))
            while words and (
                page.words[words[-1]].text in ("x", "×", "*", "@", "€", "$", "£", "EUR", "CHF", "-") or _TIMES.match(page.words[words[-1]].text)
            ):
                words.pop()
            found.append(_Item(page, number, words, numbers))
    return found
