"""Values for fields whose record type gives no labels: every typed value of a document with the words around it, set against what the field means."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from metrikon.core.documents.model import Page, Segment
from metrikon.core.extraction.indexing.forms import formed
from metrikon.core.extraction.indexing.index import Index, Place, has_digit
from metrikon.core.extraction.indexing.units import unit_of
from metrikon.core.extraction.parsing.coerce import asks_positive
from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.records.meaning import CODES, MONEY, concept_of, label_fit
from metrikon.core.records.shapes import takes
from metrikon.core.records.types import Field
from metrikon.core.values.dates import date_readings
from metrikon.core.values.phones import parse_phone
from metrikon.models.pattern.mentions import FAR_ABOVE, LABEL_WORDS, PUNCTUATION, Mention, mentions


@dataclass
class Option:
    """A value that a field may have and how likely it is."""

    value: Any
    place: Place | None
    score: float
    mention: Mention | None = field(default=None, repr=False)
    adds_up: bool = False  # with other values of the record


def options(field: Field, index: Index, used: set[tuple[int, int]]) -> list[Option]:
    """Values that a field may have, likeliest first."""
    kind = field.kind
    if kind in ("date", "amount", "phone", "mail", "iban", "time", "web address"):
        found = [option for mention in mentions(index) if (option := typed(field, mention, index, used))]
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


def typed(field: Field, mention: Mention, index: Index, used: set[tuple[int, int]]) -> Option | None:
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
    if index.document.sentences:
        return  # what is said in a talk does not stand behind its label: none of seventeen was right
    code = (
        concept_of(field) in CODES
        or bool(field.schema.get("pattern"))
        or bool(_CODE_WORDS & set(words_of(f"{field.worded} {field.schema.get('title') or ''}")))
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


MOST_WORDS = 14  # of a value that stands behind its label
_CODE_WORDS = frozenset(
    ["no", "nr", "number", "numero", "nummer", "num", "code", "codigo", "codice", "kod", "ref", "reference", "referencia", "riferimento", "id"]
)


def _no_name(text: str) -> bool:
    """Whether a text is no name of a person or firm: a date, a label of its own, figures."""
    return not text[:1].isupper() or bool(date_readings(text)) or sum(c.isdecimal() for c in text) > 4 or label_words(text)


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
            yield segment.first + count, text.strip(PUNCTUATION), True
            if marked:
                return
        elif count < len(words) and has_digit(words[count]):
            yield segment.first + count, text.strip(PUNCTUATION), True
        elif count <= 3:
            yield segment.first + count, text.strip(PUNCTUATION), False


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
                text = " ".join(texts[start:end]).strip(PUNCTUATION)
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
        text = " ".join(texts[start:end]).strip(PUNCTUATION + "#()[]")
        return Option(text, Place(page.number, tuple(words[start:end])), score * (0.95**start)) if text else None
    text = " ".join(texts).strip(PUNCTUATION)
    if label_words(text) or len(texts) > MOST_WORDS or not text[:1].isalnum():
        return None  # another label, or a sentence that only begins like one
    if concept_of(field) not in CODES and len(text) > 1 and not (text.replace(" ", "").isdecimal()):
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
                and ((texts[end].strip(PUNCTUATION).isdecimal() and len(texts[start]) <= 4) or re.fullmatch(r"[A-Z]{1,2}\d{1,3}", texts[end]))
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
