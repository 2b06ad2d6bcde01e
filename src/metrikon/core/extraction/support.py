"""What supports a value that does not stand in the document just as it is: said in words, put together, mapped, decided, derived.

Each rule looks for one kind of support and says how sure it is; the first that finds any has it. A value that no rule supports
stands nowhere.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from datetime import date
from decimal import Decimal
from itertools import combinations
from typing import Any

from metrikon.core.documents.model import words_box
from metrikon.core.extraction.index import Index, Place, squeezed
from metrikon.core.extraction.said import Heard, Said
from metrikon.core.extraction.units import asks_for
from metrikon.core.extraction.words import LEAST, STEM, rests_on
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.manner import DECIDED
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain
from metrikon.core.values.numbers import parse_number
from metrikon.core.values.phones import written_forms

Rule = Callable[[Field, Any, Index], "Evidence | None"]
WINDOW = 3  # times as many words as a value has, within which all of them must stand
MOST_PIECES = 12
OTHERS = 0.45  # share of the words of a text that may be others than the document's
NEAR_LINES = 3  # lines within which amounts stand that add up to one that is not printed
_SPELLING = {
    "dot", "point", "punkt", "punto", "punt", "ponto", "punktum", "kropka", "at", "arobase", "arroba", "chiocciola", "apenstaartje", "snabel", "snabela",
    "malpa", "klammeraffe", "dash", "hyphen", "minus", "bindestrich", "tiret", "guion", "trattino", "streepje", "underscore", "double", "capital",
}  # fmt: skip


def supported(field: Field, value: Any, index: Index) -> Evidence | None:
    """The evidence for a value that stands nowhere as it is; None when nothing supports it."""
    return next((found for rule in RULES if (found := rule(field, value, index)) is not None), None)


def evidence_at(index: Index, place: Place, sure: float, how: str = "printed") -> Evidence:
    """Evidence at a place; it is no surer than the words were read."""
    page = index.pages[place.page]
    least = min(page.words[n].sure for n in place.words)
    return Evidence(how, place.page, words_box(page, place.words), index.quote(place)[:300], round(least * sure, 3))


def _best(index: Index, heard: Sequence[Heard], how: str = "said") -> Evidence | None:
    best = max(heard, key=lambda each: each.sure, default=None)
    return evidence_at(index, best.place, best.sure, how) if best is not None else None


def _said(index: Index) -> Said:
    return index.once("said", Said)


def a_number_in_words(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number that is said: "two ninety-eight"; nought where the document says that there is none."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool):
        return None
    found = _best(index, _said(index).numbers.get(abs(Decimal(value)), []))
    if found is None and asks_for(field, "minutes"):
        found = _best(index, _said(index).minutes.get(Decimal(value), []), "derived")
    if found is None and value == 0 and (rest := rests_on(field, False, index)) is not None and rest.denied:
        return evidence_at(index, rest.place, 0.7, "said")
    return found


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


def a_day(field: Field, value: Any, index: Index) -> Evidence | None:
    """A day said without its year, by weekday, or from the document's own date; for a moment its time too."""
    if field.kind not in ("date", "moment") or not isinstance(value, str):
        return None
    try:
        day = date.fromisoformat(value[:10])
    except ValueError:
        return None
    said = _said(index)
    places = [Heard(place, 1.0 if place.exact else 0.7) for place in index.dates.get(day, [])]
    found = _best(index, places, "printed") or _best(index, said.day(day))
    if found is None and said.own_date == day:
        found = _fact(index, lambda text: str(day) in text or _holds_date(text, day))
    if field.kind == "date" or found is None:
        return found
    time = _clock(value[11:16], index)
    if time is None:
        return None
    return Evidence(found.how, found.page, found.box, f"{found.quote} … {time.quote}"[:300], round(min(found.sure, time.sure), 3))


def _holds_date(text: str, day: date) -> bool:
    from metrikon.core.extraction.said import _fact_date

    return _fact_date(text) == day


def a_time(field: Field, value: Any, index: Index) -> Evidence | None:
    """A time of day said in words, or with its half of the day apart."""
    return _clock(value[:5], index) if field.kind == "time" and isinstance(value, str) else None


def _clock(text: str, index: Index) -> Evidence | None:
    if not re.fullmatch(r"\d\d:\d\d", text):
        return None
    minutes = int(text[:2]) * 60 + int(text[3:])
    exact = [
        place
        for form in (text.replace(":", ""), text.lstrip("0").replace(":", ""))
        for place in index.find_text(form)
        if place.exact and len(form) > 2
    ]
    if exact:
        return evidence_at(index, exact[0], 1.0)
    return _best(index, _said(index).times.get(minutes, [])) or _fact(index, lambda fact: text in fact)


def a_telephone(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number in E.164 whose figures are printed or read out, with or without its country; an extension may stand apart."""
    if not isinstance(value, str) or not re.fullmatch(r"\+\d{7,15}", value):
        return None
    said = _said(index)
    forms = written_forms(value)
    for form in forms:
        places = said.find_figures(form, True) if len(form) >= 6 else []
        if places:
            return evidence_at(index, places[0], 0.95 if len(form) >= 8 else 0.8, "mapped")
    for own in (1, 2, 3, 4):
        extension = value[-own:]
        at = [place for form in forms if len(form) - own >= 6 for place in said.find_figures(form[:-own], True)]
        apart = [place for place in index.find_text(extension) if place.exact] if at else []
        if at and apart:
            best = min(apart, key=lambda place: (not index.quote(place).startswith(("-", "/", "–")), place.page))
            return evidence_at(index, best, 0.8, "mapped")
    return _fact(index, lambda text: any(re.sub(r"\D", "", text) == form for form in forms))


def in_its_data(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text that stands in what the file says of itself for programs, or in the address of one of its links."""
    wanted = squeezed(str(value)) if isinstance(value, str) else ""
    return _fact(index, lambda text: wanted in squeezed(text)) if len(wanted) >= 3 else None


def in_numbers_of_its_data(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number or a day that the file says of itself for programs."""
    if isinstance(value, bool) or not isinstance(value, Decimal | int | str):
        return None
    if isinstance(value, Decimal | int):
        return _fact(index, lambda text: len(text) < 40 and parse_number(text, ".") == value)
    if field.kind in ("date", "moment") and re.match(r"\d{4}-\d\d-\d\d", value):
        wanted = value[:16] if field.kind == "moment" else value[:10]
        return _fact(index, lambda text: text.replace(" ", "T").startswith(wanted))
    return None


def _fact(index: Index, holds: Callable[[str], bool]) -> Evidence | None:
    for fact in index.document.facts:
        if holds(fact.value):
            return Evidence("fact", 0, None, f"{fact.value} ({fact.source} {fact.path})"[:300], 0.95)
    for link in index.document.links:
        if holds(link.address):
            return Evidence("fact", 0, None, f"{link.text}: {link.address}"[:300], 0.95)
    return None


def a_sign(field: Field, value: Any, index: Index) -> Evidence | None:
    """A currency by its name in words, or by the country that the document is from."""
    if field.kind != "currency" or not isinstance(value, str):
        return None
    names = _CURRENCY_NAMES.get(value, ())
    for run, (_, words, _) in enumerate(_said(index).runs):
        for at, word in enumerate(words):
            if plain(word) in names:
                return evidence_at(index, _said(index).place(run, at, at + 1), 0.9, "mapped")
    signs = _SIGNS_OF.get(value, "")
    for page in index.document.pages:
        for number, printed in enumerate(page.words):
            if any(sign in printed.text for sign in signs):
                return evidence_at(index, Place(page.number, (number,)), 0.9, "mapped")
    home = _CURRENCY_OF.get(index.country or "") or _OF_LANGUAGE.get(index.language or "")
    named = index.currency
    if home == value and named in (None, value):
        return Evidence("mapped", 0, None, "no currency is named; it is that of the document's country", 0.7)
    return None


_CURRENCY_NAMES = {
    "EUR": ("euro", "euros", "eur", "ευρω"), "USD": ("dollar", "dollars", "usd", "us$", "bucks"), "GBP": ("pound", "pounds", "gbp", "sterling", "quid", "pence", "p"),
    "CHF": ("franken", "chf", "sfr", "fr", "franchi", "francs", "stutz"), "SEK": ("kronor", "sek", "kr"), "DKK": ("kroner", "dkk", "kr"), "NOK": ("kroner", "nok", "kr"),
    "PLN": ("zloty", "zlotych", "zl", "pln"), "CZK": ("koruna", "korun", "kc", "czk"), "CAD": ("dollar", "dollars", "cad"), "AUD": ("dollar", "dollars", "aud"),
    "JPY": ("yen", "jpy"), "BRL": ("real", "reais", "brl"), "MXN": ("peso", "pesos", "mxn"), "HUF": ("forint", "ft", "huf"),
}  # fmt: skip
_SIGNS_OF = {"EUR": "€", "GBP": "£", "USD": "$", "CAD": "$", "AUD": "$", "NZD": "$", "MXN": "$", "JPY": "¥", "CNY": "¥"}
_CURRENCY_OF = {
    **dict.fromkeys(("DE", "AT", "FR", "ES", "IT", "NL", "BE", "IE", "PT", "FI", "LU", "GR"), "EUR"), "GB": "GBP", "US": "USD", "CH": "CHF", "SE": "SEK",
    "DK": "DKK", "NO": "NOK", "PL": "PLN", "CZ": "CZK", "CA": "CAD", "AU": "AUD",
}  # fmt: skip
_OF_LANGUAGE = {"de": "EUR", "fr": "EUR", "es": "EUR", "it": "EUR", "nl": "EUR", "pt": "EUR", "sv": "SEK", "da": "DKK", "pl": "PLN"}


def spelled_out(field: Field, value: Any, index: Index) -> Evidence | None:
    """A mail address or a code that is read out: letters, figures in words, "dot" and "at"."""
    wanted = squeezed(str(value)) if isinstance(value, str) else ""
    if len(wanted) < 3 or (field.kind not in ("mail", "web address") and not any(c.isdigit() for c in wanted)):
        return None
    for run, text, source in index.once("spelled", _spelled):
        at = text.find(wanted)
        if at >= 0:
            place = _said(index).place(run, source[at], source[at + len(wanted) - 1] + 1)
            if place.words:
                return evidence_at(index, place, 0.85, "said")
    return None


def _spelled(index: Index) -> list[tuple[int, str, list[int]]]:
    """Each run as it sounds when it is read out: figures for numbers in words, words for marks left out."""
    found = []
    said = _said(index)
    for (_, words, _), (run, here) in zip(said.runs, said.groups, strict=True):
        by_first = {group.first: group for group in here}
        text, source, at = "", [], 0
        while at < len(words):
            group = by_first.get(at)
            piece = group.figures if group else "" if plain(words[at]) in _SPELLING else squeezed(words[at])
            text += piece
            source += [at] * len(piece)
            at = group.last if group else at + 1
        found.append((run, text, source))
    return found


def put_together(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text whose pieces, or all of whose words, stand close together, in whatever order."""
    if not isinstance(value, str) or field.manner == DECIDED or len(squeezed(value)) < 3:
        return None
    for parted in (re.split(r"[,;()\n·|/@–]|\s-\s", value), re.findall(r"[^\W\d_]+|\d+", value) if field.kind == "mail" else ()):
        pieces = [piece.strip() for piece in parted if squeezed(piece)]
        if 1 < len(pieces) <= MOST_PIECES and (places := _all_found(pieces, index)):
            return evidence_at(index, places, 0.85)
    words = [word for word in value.split() if squeezed(word)]
    return _within_window(words, index) if len(words) > 1 else None


def _all_found(pieces: Sequence[str], index: Index) -> Place | None:
    """A place for every piece, on one page and near the first; words of their own, not parts of others."""
    said: list[Place] = []
    for piece in pieces:
        found = [place for place in index.find_text(piece) if place.exact]
        if not found and (heard := _number_ended(piece, index)):
            found = [heard]
        if not found:
            return None
        page, first = (said[0].page, said[0].words[0]) if said else (found[0].page, found[0].words[0])
        said.append(min(found, key=lambda place: (place.page != page, abs(place.words[0] - first))))
    if any(place.page != said[0].page for place in said):
        return None
    words = tuple(dict.fromkeys(number for place in said for number in place.words))
    return Place(said[0].page, words) if max(words) - min(words) <= 60 + 3 * len(words) else None


def _number_ended(piece: str, index: Index) -> Place | None:
    """A piece that ends or begins with a number which the document has in words: "Kerkweg 81"."""
    if not any(c.isdigit() for c in piece):
        return None
    wanted = squeezed(piece)
    for run, text, source in index.once("spelled", _spelled):
        at = text.find(wanted)
        if at >= 0:
            place = _said(index).place(run, source[at], source[at + len(wanted) - 1] + 1)
            return place if place.words else None
    return None


def _within_window(words: Sequence[str], index: Index) -> Evidence | None:
    """All words of a text within a stretch that is not much longer than it."""
    wanted = [squeezed(word) for word in words]
    for page in index.document.pages:
        printed = [squeezed(word.text) for word in page.words]
        known = set(printed)
        if not all(word in known for word in wanted):
            continue
        reach = WINDOW * len(wanted) + 8
        for start, text in enumerate(printed):
            if text == wanted[0] or text == wanted[-1]:
                low, high = max(0, start - reach // 2), start + reach
                here = printed[low:high]
                at = [low + here.index(word) for word in wanted if word in here]
                if len(at) == len(wanted):
                    return evidence_at(index, Place(page.number, tuple(sorted(set(at)))), 0.75)
    return None


def decided(field: Field, value: Any, index: Index) -> Evidence | None:
    """What a yes or no, an option or words of one's own rest on: the passage that speaks of it."""
    if field.manner != DECIDED:
        return None
    if isinstance(value, str) and field.kind == "text":
        return _own_words(value, index)
    rest = rests_on(field, value, index)
    if rest is None:
        # a no that nobody speaks of is how a document says no; anything else needs words to rest on
        open_to_one = value is False or field.kind == "choice" or not field.nullable
        return Evidence("decided", 0, None, "nothing in the document speaks of it", 0.65) if open_to_one else None
    return evidence_at(index, rest.place, rest.sure, "decided")


def _own_words(value: str, index: Index) -> Evidence | None:
    """Words of one's own: every figure and every name in them must stand in the document."""
    doubtful = [word for word in re.findall(r"[^\s,;:()\"“”]+", value) if _is_fact(word)]
    missing = [word for word in doubtful if not _stands(word.strip(".!?'’"), index)]
    if len(missing) > len(doubtful) // 4:
        return None
    return Evidence("decided", 0, None, "put in other words", 0.8 if not missing else 0.65)


def _is_fact(word: str) -> bool:
    return any(c.isdigit() for c in word)


def _stands(word: str, index: Index) -> bool:
    figures = re.sub(r"\D", "", word)
    if not figures:
        return True
    if index.find_text(word) or any(figures in text for _, text, _ in _said(index).figures):
        return True
    try:
        value = Decimal(re.sub(r"[^\d.]", "", word).strip(".") or "0")
    except ArithmeticError:
        return False
    minutes = re.fullmatch(r"(\d{1,2}):(\d\d)", word)
    return value in _said(index).numbers or bool(minutes and int(minutes[1]) * 60 + int(minutes[2]) in _said(index).times)


def in_other_words(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text of several words most of which the document uses; no other word of it may be one of the document's, misspelt."""
    if not isinstance(value, str) or field.schema.get("pattern") or field.kind != "text":
        return None
    words = [plain(word) for word in re.findall(r"[^\W\d_]{2,}", value)]
    if len(words) < 2 or any(not any(place.exact for place in index.find_text(word)) for word in value.split() if _is_fact(word)):
        return None
    short = re.findall(r"(?<!\w)[^\W\d_](?!\w)", value)
    if any(not any(place.exact for place in index.find_text(letter)) for letter in short):
        return None
    printed = index.once("stems of words", _stems_printed)
    telling = [word for word in words if len(word) >= LEAST]
    missing = [word for word in telling if word[:STEM] not in printed]
    if len(missing) > OTHERS * len(telling) or any(_misspelt(word, printed) for word in words):
        return None
    rest = rests_on(field, value, index)
    return evidence_at(index, rest.place, 0.65, "decided") if rest else None


def _stems_printed(index: Index) -> dict[str, set[str]]:
    """The words of a document by their stems."""
    found: dict[str, set[str]] = {}
    for page in index.document.pages:
        for word in page.words:
            for part in re.findall(r"[^\W\d_]{2,}", word.text):
                found.setdefault(plain(part)[:STEM], set()).add(plain(part))
    return found


def _misspelt(word: str, printed: Mapping[str, set[str]]) -> bool:
    """Whether a word is one of the document's but for a letter."""
    every = {other for words in printed.values() for other in words if len(other) == len(word)}
    return word not in every and any(sum(a != b for a, b in zip(word, other, strict=True)) == 1 for other in every)


def misread(field: Field, value: Any, index: Index) -> Evidence | None:
    """A code whose letters and figures were mixed up when its picture was read: O for 0, l for 1."""
    if not isinstance(value, str) or not any(c.isdigit() for c in value) or len(squeezed(value)) < 4:
        return None
    wanted = squeezed(value).translate(_ALIKE)
    for page in index.document.pages:
        if page.source == "ocr":
            printed = [squeezed(word.text).translate(_ALIKE) for word in page.words]
            text = "".join(printed)
            at = text.find(wanted)
            if at >= 0:
                first = next(n for n in range(len(printed)) if len("".join(printed[: n + 1])) > at)
                return evidence_at(index, Place(page.number, (first,)), 0.65, "mapped")
    return None


_ALIKE = str.maketrans("olisbzg", "0115829")


def a_thousand(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number in thousands: "42k", "45 T€"."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool) or value < 1000:
        return None
    for page in index.document.pages:
        for line in page.lines:
            for match in re.finditer(r"(\d{1,3}(?:[.,]\d)?)\s?(?:k|K|T€|TEUR|Tsd\.?|mil|mille)\b", line.text):
                if Decimal(match[1].replace(",", ".")) * 1000 == value:
                    return evidence_at(index, Place(page.number, tuple(range(line.first, line.last))), 0.8, "mapped")
    return None


def within_print(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number that stands within other print: "35€/Std", "4x12", "No12"."""
    if not isinstance(value, Decimal | int) or isinstance(value, bool) or value == int(value) < 100:
        return None
    found = index.once("numbers within print", _within_print).get(abs(Decimal(value)))
    return evidence_at(index, found, 0.7) if found else None


_ANY_NUMBER = re.compile(r"\d{1,3}(?:[.,'’ \u00a0\u202f]\d{3})+(?:[.,]\d{1,4})?(?!\d)|\d+(?:[.,]\d{1,4})?")


def _within_print(index: Index) -> dict[Decimal, Place]:
    found: dict[Decimal, Place] = {}
    for page, segment in index.figured:
        for number in range(segment.first, segment.last):
            text = page.words[number].text
            for match in _ANY_NUMBER.finditer(text) if len(text) <= 60 and not text.isdigit() else ():
                read = parse_number(match.group(), index.mark)
                if read is not None:
                    found.setdefault(read, Place(page.number, (number,)))
    return found


def _once(field: Field, value: Any, index: Index) -> Evidence | None:
    """One of something, which goes without saying in a row."""
    if value == 1 and not isinstance(value, bool) and "/*/" in field.shape and field.kind == "amount":
        return Evidence("derived", 0, None, "one, which goes without saying", 0.7)
    return None


RULES: tuple[Rule, ...] = (
    a_number_in_words, a_day, a_time, a_telephone, a_sign, spelled_out, put_together, in_its_data, in_numbers_of_its_data, decided, amounts_together, a_thousand, within_print, misread, in_other_words, _once,
)  # fmt: skip
