"""Values for fields whose record type gives no labels: every typed value of a document with the words around it, set against what the field means."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Page, Segment
from metrikon.core.extraction.coerce import asks_positive
from metrikon.core.extraction.forms import formed
from metrikon.core.extraction.index import Index, Place, has_digit
from metrikon.core.extraction.units import unit_of
from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.records.meaning import CODES, MONEY, concept_of, label_fit
from metrikon.core.records.shapes import takes
from metrikon.core.records.types import Field
from metrikon.core.values.dates import date_readings, parse_date
from metrikon.core.values.phones import parse_phone
from metrikon.core.values.times import parse_time
from metrikon.core.values.web import parse_mail

LABEL_WORDS = 7
BEFORE, ABOVE, AFTER = 1.0, 0.85, 0.62
FAR_ABOVE = 3.4  # heights of a line
_PUNCTUATION = " \t:;,.|·–-=>"
_PHONE = re.compile(r"(?:\+|\(0?|0)[\d][\d ()/.\-]{5,20}\d")
_MAIL = re.compile(r"[\w.+-]{1,64}@[\w-]+(?:\.[\w-]+)+")
_WEB = re.compile(r"(?:https?://|www\.)[^\s<>,;]+|\b[\w-]+(?:\.[\w-]+)*\.(?:com|org|net|example|de|fr|es|it|nl|uk|eu|ch|at|be)\b(?:/[^\s,;]*)?")
_IBAN = re.compile(r"\b[A-Z]{2}\d{2}(?: ?[A-Z0-9]{3,4}){3,8}(?: ?[A-Z0-9]{1,3})?\b")
_TAX = re.compile(r"\b(?:[A-Z]{2,3}[ .-]?)?[A-Z]?\d[\d .]{5,14}\d(?:[ .]?(?:[A-Z]{1,2}|B\d\d|MWST|IVA|TVA))?\b")
_TIME = re.compile(r"\b\d{1,2}\s?[:.hu]\s?\d{2}(?::\d{2})?(?:\s?[ap]\.?m\.?)?\b|\b\d{1,2}\s?(?:[ap]\.?m\b|uhr\b|uur\b|h\b|heures\b)", re.IGNORECASE)


@dataclass(frozen=True)
class Mention:
    """A typed value that stands somewhere, with the words around it: (text, how much they count). `sign`: what it is printed with."""

    kind: str
    value: Any
    place: Place
    line: int
    labels: tuple[tuple[str, float], ...]
    sign: str = ""
    decimals: int = 0
    aside: bool = False  # it stands in brackets or after a word such as "on": what a rate is of, not what comes of it


@dataclass
class Option:
    """A value that a field may have and how likely it is."""

    value: Any
    place: Place | None
    score: float
    mention: Mention | None = field(default=None, repr=False)
    adds_up: bool = False  # with other values of the record


def mentions(index: Index) -> list[Mention]:
    """All typed values of a document."""
    return index.once("mentions", lambda each: list(_mentions(each)))


def _mentions(index: Index) -> Iterator[Mention]:
    dated: set[tuple[int, int]] = set()
    for places in index.dates.values():
        for place in places:
            dated.update((place.page, number) for number in place.words)
    for day, places in index.dates.items():
        for place in {(p.page, p.words): p for p in places}.values():
            readings = date_readings(index.quote(place))
            if len(readings) > 1 and parse_date(index.quote(place), index.day_first) != day:
                continue
            yield _mention(index, "date", day.isoformat(), place)
    for here in index.numbers_at.values():
        for place, value in here:
            text = index.quote(place)
            if (place.page, place.words[0]) in dated or _within(place, here):
                continue
            decimals = (
                len(match.group(1))
                if ((match := re.search(r"[.,](\d{1,4})\D*$", text)) and value != value.to_integral_value())
                or (match := re.search(r"[.,](\d{2})\D*$", text))
                else 0
            )
            yield _mention(index, "amount", value, place, _sign(index, place), decimals)
    for page in index.document.pages:
        for number, line in enumerate(page.lines):
            text = line.text
            yield from _matched(index, page, number, text, dated)


def _within(place: Place, here: Sequence[tuple[Place, Decimal]]) -> bool:
    """Whether a longer number begins at the same word: "1 224,00" is not 1."""
    return any(other.words[: len(place.words)] == place.words and len(other.words) > len(place.words) for other, _ in here)


def _sign(index: Index, place: Place) -> str:
    page = index.pages[place.page]
    line = page.lines[page.line_of[place.words[0]]]
    after = page.words[place.words[-1] + 1].text if place.words[-1] + 1 < line.last else ""
    before = page.words[place.words[0] - 1].text if place.words[0] > line.first else ""
    own = index.quote(place)
    if own.endswith("%") or after.startswith("%"):
        return "%"
    return "money" if re.search(r"[€£$]|\b(?:EUR|CHF|GBP|USD)\b", f"{before} {own} {after}") else ""


def _matched(index: Index, page: Page, number: int, text: str, dated: set[tuple[int, int]]) -> Iterator[Mention]:
    if "@" in text:
        for match in _MAIL.finditer(text):
            if found := parse_mail(match.group()):
                yield from _at(index, page, number, "mail", found, match.group())
    if not has_digit(text):
        if "." in text:
            for match in _WEB.finditer(text):
                if "@" not in text[max(0, match.start() - 1) : match.end()]:
                    yield from _at(index, page, number, "web address", match.group(), match.group())
        return
    taken: list[tuple[int, int]] = []
    for match in _IBAN.finditer(text):
        taken.append(match.span())
        yield from _at(index, page, number, "iban", match.group(), match.group())
    for match in _PHONE.finditer(text):
        if not any(a < match.end() and match.start() < b for a, b in taken) and sum(c.isdigit() for c in match.group()) >= 7:
            words = _words_at(page, number, match.group())
            if words and (page.number, words[0]) not in dated:
                yield from _at(index, page, number, "phone", match.group(), match.group())
    for match in _TIME.finditer(text):
        said = re.sub(r"\s?([ap])\.?m\.?$", r"\1m", match.group(), flags=re.IGNORECASE)
        said = re.sub(r"\s?(?:[hu]|uhr|uur|heures)\s?(?=\d|$)", ":", said, flags=re.IGNORECASE)
        found_time = parse_time(said + "00" if said.endswith(":") else said)
        words = _words_at(page, number, match.group()) if found_time is not None else []
        if found_time is not None and words and ((page.number, words[0]) not in dated or ":" in match.group()):
            yield from _at(index, page, number, "time", found_time.strftime("%H:%M"), match.group())


def _at(index: Index, page: Page, line: int, kind: str, value: Any, text: str) -> Iterator[Mention]:
    words = _words_at(page, line, text)
    if words:
        yield _mention(index, kind, value, Place(page.number, tuple(words)))


def _words_at(page: Page, line: int, text: str) -> list[int]:
    """The words of a line that a piece of its text stands on."""
    whole = page.lines[line]
    at, low = whole.text.find(text), 0
    if at < 0:
        return []
    found = []
    for segment in whole.segments:
        for number in range(segment.first, segment.last):
            start = low
            low += len(page.words[number].text) + 1
            if start < at + len(text) and at < low - 1:
                found.append(number)
    return found


def _mention(index: Index, kind: str, value: Any, place: Place, sign: str = "", decimals: int = 0) -> Mention:
    page = index.pages[place.page]
    return Mention(
        kind, value, place, page.line_of[place.words[0]], tuple(labels_of(index, place)), sign, decimals, kind == "amount" and _aside(page, place)
    )


_OF_WHAT = frozenset(
    ["base", "on", "of", "von", "auf", "aus", "sur", "de", "sobre", "su", "di", "over", "op", "van", "ud", "af", "pa", "av", "od", "x", "*", "×"]
)


def _aside(page: Page, place: Place) -> bool:
    """Whether an amount is what another one is worked out from."""
    line = page.lines[page.line_of[place.words[0]]]
    before = [page.words[n].text for n in range(line.first, place.words[0])]
    text = " ".join(before)
    closes = page.words[place.words[-1]].text.endswith((")", "):"))
    return text.count("(") > text.count(")") or closes or bool(before and before[-1].lower().strip("(") in _OF_WHAT)


def labels_of(index: Index, place: Place) -> Iterator[tuple[str, float]]:
    """The words that may say what stands at a place: before it on its line, above it, after it."""
    page = index.pages[place.page]
    number = page.line_of[place.words[0]]
    line = page.lines[number]
    at = next(n for n, segment in enumerate(line.segments) if segment.first <= place.words[0] < segment.last)
    segment = line.segments[at]
    inside = _said(page, range(max(segment.first, place.words[0] - LABEL_WORDS), place.words[0]))
    if inside:
        yield inside, BEFORE
    else:
        for before in range(at - 1, -1, -1):
            text = line.segments[before].text
            if any(c.isalpha() for c in text) and not (has_digit(text) and before > 0 and len(text) < 18):
                yield text, BEFORE if before == at - 1 else BEFORE * 0.93
                break
    above = _above(page, number, segment, index)
    if above:
        yield above, ABOVE if not inside else ABOVE * 0.7
    after = _said(page, range(place.words[-1] + 1, min(segment.last, place.words[-1] + 1 + LABEL_WORDS)))
    if after:
        yield after, AFTER if inside else AFTER * 1.25
    elif at == 0 and len(line.segments) > 1 and place.words[-1] == segment.last - 1 and not inside:
        yield line.segments[1].text, AFTER * 1.25


def _said(page: Page, numbers: range) -> str:
    """The words of a label: what stands after the last figure or full stop before the value."""
    words = [page.words[n].text for n in numbers]
    while words and not any(c.isalnum() for c in words[-1]):
        words.pop()
    return " ".join(words).strip(_PUNCTUATION)


def _above(page: Page, number: int, segment: Segment, index: Index) -> str:
    """The head over a value: the nearest piece of print above it without figures, aligned at either edge or overlapping."""
    height = max(4.0, segment.y1 - segment.y0)
    for above in range(number - 1, max(-1, number - 4), -1):
        for other in page.lines[above].segments:
            if segment.y0 - other.y1 > FAR_ABOVE * height:
                return ""
            shared = min(segment.x1, other.x1) - max(segment.x0, other.x0)
            if shared > 0.3 * min(segment.x1 - segment.x0, other.x1 - other.x0):
                return other.text if not has_digit(other.text) and len(other.text) < 50 else ""
    return ""


def options(field: Field, index: Index, used: set[tuple[int, int]]) -> list[Option]:
    """Values that a field may have, likeliest first."""
    kind = field.kind
    if kind in ("date", "amount", "phone", "mail", "iban", "time", "web address"):
        found = [option for mention in mentions(index) if (option := _typed(field, mention, index, used))]
    elif kind == "moment":
        found = list(_moments(field, index))
    elif kind == "month":
        found = []
    elif kind == "text":
        found = list(_texts(field, index, used))
    else:
        found = []
    best: dict[Any, Option] = {}
    for each in found:
        if each.value not in best or each.score > best[each.value].score:
            best[each.value] = each
    return sorted(best.values(), key=lambda each: -each.score)


def _typed(field: Field, mention: Mention, index: Index, used: set[tuple[int, int]]) -> Option | None:
    if mention.kind != field.kind or (field.kind == "amount" and (mention.place.page, mention.place.words[0]) in used):
        return None
    fit = max((label_fit(field, text) * weight for text, weight in mention.labels), default=0.0)
    value = mention.value
    if field.kind == "amount":
        fit *= _amount_fits(field, mention)
        value = -value if value < 0 and asks_positive(field.schema) else value
        if "integer" in field.types and "number" not in field.types:
            value = int(value) if value == value.to_integral_value() else value
    elif field.kind == "phone":
        value = parse_phone(str(value), index.phone_country)
        if value is None:
            return None
    elif field.kind in ("time", "iban", "web address", "mail"):
        value = formed(field, str(value), index) or value
    return Option(value, mention.place, fit, mention) if fit > 0 else None


def _amount_fits(field: Field, mention: Mention) -> float:
    """How well a number fits what its field counts: per cent, money with cents, whole numbers."""
    unit, concept = unit_of(field), concept_of(field)
    percent = unit == "per cent" or concept == "tax rate"
    if percent != (mention.sign == "%"):
        return 0.25
    fits = 0.55 if mention.aside and concept != "net" else 1.0
    if "integer" in field.types and "number" not in field.types and mention.value != mention.value.to_integral_value():
        return 0.0
    if concept in MONEY and not mention.decimals and mention.sign != "money":
        fits *= 0.6
    if "integer" in field.types and mention.decimals == 2:
        fits *= 0.5
    return fits


def _moments(field: Field, index: Index) -> Iterator[Option]:
    """A date with the time that stands on its line."""
    times = [mention for mention in mentions(index) if mention.kind == "time"]
    for day in mentions(index):
        if day.kind != "date":
            continue
        beside = [t for t in times if t.place.page == day.place.page and t.line == day.line and t.place.words[0] > day.place.words[-1] - 1]
        fit = max((label_fit(field, text) * weight for text, weight in day.labels), default=0.0)
        for time in beside[:1]:
            whole = f"{day.value}T{time.value}"
            yield Option(formed(field, whole, index) or whole, Place(day.place.page, (*day.place.words, *time.place.words)), fit or 0.2)


def _texts(field: Field, index: Index, used: set[tuple[int, int]]) -> Iterator[Option]:
    """What stands after or under a label of the field."""
    code = (
        concept_of(field) in CODES
        or bool(field.schema.get("pattern"))
        or bool(_CODE_WORDS & set(words_of(f"{field.name.replace('_', ' ')} {field.schema.get('title') or ''}")))
    )
    party = concept_of(field) in ("sender", "receiver", "person", "employer")
    for page in index.document.pages:
        for number, line in enumerate(page.lines):
            for at, segment in enumerate(line.segments):
                if (page.number, segment.first) in used:
                    continue
                for end, label, exact in _labels_in(page, segment):
                    fit = label_fit(field, label)
                    if fit < (0.4 if exact else 0.7) or (party and not exact):
                        continue
                    for words, weight in _values_after(page, number, at, end):
                        option = _text_option(field, page, words, fit * weight * (1.0 if exact else 0.85), code, index)
                        if option is not None and not (party and _no_name(str(option.value))):
                            yield option
                            break


_CODE_WORDS = frozenset(
    ["no", "nr", "number", "numero", "nummer", "num", "code", "codigo", "codice", "kod", "ref", "reference", "referencia", "riferimento", "id"]
)


def _no_name(text: str) -> bool:
    """Whether a text is no name of a person or firm: a date, a label of its own, figures."""
    return not text[:1].isupper() or bool(date_readings(text)) or sum(c.isdigit() for c in text) > 4 or label_words(text)


def label_words(text: str) -> bool:
    """Whether a text is itself what papers call something."""
    whole = len(words_of(text))
    return any(length == whole and concept not in ("sender", "receiver") for concept, _, length in concepts_in(text))


def _labels_in(page: Page, segment: Segment) -> Iterator[tuple[int, str, bool]]:
    """(end, text, whether a mark ends it) of the beginnings of a segment that may be a label."""
    words = [page.words[n].text for n in range(segment.first, segment.last)]
    for count in range(1, min(LABEL_WORDS, len(words)) + 1):
        text = " ".join(words[:count])
        if has_digit(words[count - 1]) and count > 1:
            return
        marked = (
            words[count - 1].endswith((":", "#", "№", "°", ".:"))
            or (count < len(words) and words[count] in (":", "–", "-", "#"))
            or (count < len(words) and words[count].startswith("#"))
        )
        if marked or count == len(words):
            yield segment.first + count, text.strip(_PUNCTUATION), True
            if marked:
                return
        elif count < len(words) and has_digit(words[count]):
            yield segment.first + count, text.strip(_PUNCTUATION), True
        elif count <= 3:
            yield segment.first + count, text.strip(_PUNCTUATION), False


def _values_after(page: Page, number: int, at: int, end: int) -> Iterator[tuple[list[int], float]]:
    """Words after a label: the rest of its segment, else the next segment, else the piece of print below."""
    line = page.lines[number]
    segment = line.segments[at]
    rest = [n for n in range(end, segment.last) if any(c.isalnum() for c in page.words[n].text)]
    if rest:
        yield list(range(rest[0], segment.last)), 1.0
        return
    if at + 1 < len(line.segments):
        following = line.segments[at + 1]
        yield list(range(following.first, following.last)), 0.97
    for below in range(number + 1, min(number + 3, len(page.lines))):
        for other in page.lines[below].segments:
            height = max(4.0, segment.y1 - segment.y0)
            if other.y0 - segment.y1 < FAR_ABOVE * height - height and (
                abs(other.x0 - segment.x0) < 1.5 * height or abs(other.x1 - segment.x1) < 1.5 * height
            ):
                yield list(range(other.first, other.last)), 0.85
                return


def _text_option(field: Field, page: Page, words: Sequence[int], score: float, code: bool, index: Index) -> Option | None:
    texts = [page.words[n].text for n in words]
    while texts and not any(c.isalnum() for c in texts[0]):
        texts, words = texts[1:], words[1:]
    if not texts:
        return None
    pattern = field.schema.get("pattern")
    if pattern:
        for start in range(min(4, len(texts))):
            for end in range(min(len(texts), start + 5), start, -1):
                text = " ".join(texts[start:end]).strip(_PUNCTUATION)
                shaped = formed(field, text, index)
                if shaped and takes(pattern, shaped):
                    return Option(shaped, Place(page.number, tuple(words[start:end])), score * (0.97**start))
        return None
    if code:
        run = _code(texts)
        least = 6 if concept_of(field) == "tax id" else 1
        if run is None or sum(c.isalnum() for text in texts[run[0] : run[1]] for c in text) < least:
            return None
        start, end = run
        text = " ".join(texts[start:end]).strip(_PUNCTUATION + "#()[]")
        return Option(text, Place(page.number, tuple(words[start:end])), score * (0.95**start)) if text else None
    text = " ".join(texts).strip(_PUNCTUATION)
    if concept_of(field) not in CODES and len(text) > 1 and not (text.replace(" ", "").isdigit()):
        return Option(text, Place(page.number, tuple(words)), score * 0.95)
    return Option(text, Place(page.number, tuple(words)), score * 0.6) if text else None


def _code(texts: Sequence[str]) -> tuple[int, int] | None:
    """[first, end) of the words that are a code: with figures in them, a few at most."""
    for start, text in enumerate(texts[:4]):
        if has_digit(text) and not date_readings(text):
            end = start + 1
            while (
                end < len(texts)
                and end - start < 6
                and ((texts[end].strip(_PUNCTUATION).isdigit() and len(texts[start]) <= 4) or re.fullmatch(r"[A-Z]{1,2}\d{1,3}", texts[end]))
            ):
                end += 1
            first = (
                start - 1
                if start and len(texts[start - 1]) <= 4 and texts[start - 1].isupper() and texts[start - 1].isalpha() and start == 1
                else start
            )
            return first, end
    return None


def first_date(index: Index) -> tuple[str, Place] | None:
    """The first date in a document."""
    dates = [(m.place.page, m.line, m) for m in mentions(index) if m.kind == "date"]
    best = min(dates, key=lambda each: each[:2], default=None)
    return (best[2].value, best[2].place) if best else None


__all__ = ["Mention", "Option", "date", "first_date", "mentions", "options"]
