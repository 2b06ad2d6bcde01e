"""Support for texts that do not stand as they are: read out, put together from pieces, decided, put in other words, misread."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.extraction.indexing.placed import evidence_at, said_of
from metrikon.core.extraction.indexing.words import LEAST, STEM, rests_on
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.manner import DECIDED
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

NEAR_NAME = 80  # words between a street and the number of a house that belongs to it, in a talk
WINDOW = 3  # times as many words as a value has, within which all of them must stand
MOST_PIECES = 12
LEAST_WORDS = 3  # of a text in words of one's own
COPIED_MISSING = 0.2  # share of the words of a text that is to be copied which may be others
LONGER = 3  # letters by which two words of one stem may differ in length
MISREAD, MISREAD_TEXT = 0.65, 0.8  # a code in which alike signs were mixed up; a text of several words, which no other one is like
OTHERS = 0.45  # share of the words of a text that may be others than the document's
_SPELLING = {
    "dot", "point", "punkt", "punto", "punt", "ponto", "punktum", "kropka", "at", "arobase", "arroba", "chiocciola", "apenstaartje", "snabel", "snabela",
    "malpa", "klammeraffe", "unterstrich", "tiret", "bas", "guion", "bajo", "basso", "liggend", "understreg", "understreck", "podkreslnik", "podkreslenie", "zavinac", "tecka", "pomlcka",
    "podtrzitko", "prik", "bindestreck", "streep", "laag", "traco", "sublinhado", "kropki", "hash", "slash", "schragstrich", "barra", "dash", "hyphen", "minus", "bindestrich", "trattino", "streepje", "underscore", "double", "capital",
}  # fmt: skip


_AS_IN = {"for", "as", "like", "wie", "comme", "come", "como", "de", "als", "van", "som", "jak", "jako", "in"}


def spelled_out(field: Field, value: Any, index: Index) -> Evidence | None:
    """A mail address or a code that is read out: letters, figures in words, "dot" and "at"."""
    wanted = squeezed(str(value)) if isinstance(value, str) else ""
    if len(wanted) < 3 or (field.kind not in ("mail", "web address") and not any(c.isdecimal() for c in wanted)):
        return None
    for run, text, source in index.once("spelled", _spelled):
        at = text.find(wanted)
        if at >= 0:
            place = said_of(index).place(run, source[at], source[at + len(wanted) - 1] + 1)
            if place.words:
                return evidence_at(index, place, 0.85, "said")
    return None


def _spelled(index: Index) -> list[tuple[int, str, list[int]]]:
    """Each run as it sounds when it is read out: figures for numbers in words, words for marks left out."""
    found = []
    said = said_of(index)
    for (_, words, _), (run, here) in zip(said.runs, said.groups, strict=True):
        by_first = {group.first: group for group in here}
        text, source, at = "", [], 0
        while at < len(words):
            if (
                text
                and at + 1 < len(words)
                and plain(words[at]) in _AS_IN
                and len(words[at - 1]) == 1
                and words[at + 1][:1].lower() == words[at - 1].lower()
            ):
                at += 2  # "S for Sierra"
                continue
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
    return (_within_window(words, index) or _with_a_number_said(words, index)) if len(words) > 1 else None


def _with_a_number_said(words: Sequence[str], index: Index) -> Evidence | None:
    """A text that ends with a number which is said in words elsewhere in the talk: the number of a house after its street."""
    *names, last = words
    heard = said_of(index).numbers.get(Decimal(last), []) if last.isdecimal() and len(last) <= 4 else []
    places = index.find_text(" ".join(names)) if heard else []
    near = [each for each in heard for place in places if each.place.page == place.page and abs(each.place.words[0] - place.words[0]) <= NEAR_NAME]
    return evidence_at(index, near[0].place, 0.7, "said") if near else None


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
    if not any(c.isdecimal() for c in piece):
        return None
    wanted = squeezed(piece)
    for run, text, source in index.once("spelled", _spelled):
        at = text.find(wanted)
        if at >= 0:
            place = said_of(index).place(run, source[at], source[at + len(wanted) - 1] + 1)
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
        return Evidence("decided", 0, None, "nothing in the document speaks of it", 0.65)
    return evidence_at(index, rest.place, rest.sure, "decided")


def _own_words(value: str, index: Index) -> Evidence | None:
    """Words of one's own: every figure and every name in them must stand in the document."""
    if len(re.findall(r"[^\W\d_]{2,}", value)) < LEAST_WORDS or "_" in value:
        return None  # a code or a name is copied, or it is nothing
    printed = index.once("stems of words", _stems_printed)
    if any(_mistyped(word, printed) for word in map(plain, re.findall(rf"[^\W\d_]{{{LONG},}}", value))):
        return None
    doubtful = [word for word in re.findall(r"\d+(?::\d\d)+|[^\s,;:()\"“”]+", value) if _is_fact(word)]
    missing = [word for word in doubtful if not _stands(word.strip(".!?'’"), index)]
    if len(missing) > len(doubtful) // 4:
        return None
    return Evidence("decided", 0, None, "put in other words", 0.8 if not missing else 0.65)


def _mistyped(word: str, printed: Mapping[str, set[str]]) -> bool:
    """Whether a long word is one of the document's but for a letter before its ending, which may be that of another form."""
    every = {other[:-2] for words in printed.values() for other in words if len(other) == len(word)}
    head = word[:-2]
    return head not in every and any(sum(a != b for a, b in zip(head, other, strict=True)) == 1 for other in every)


LONG = 7  # letters of a word that hardly any other is like but for one


def _is_fact(word: str) -> bool:
    return any(c.isdecimal() for c in word)


def _stands(word: str, index: Index) -> bool:
    figures = re.sub(r"\D", "", word)
    if not figures:
        return True
    if index.find_text(word) or any(figures in text for _, text, _ in said_of(index).figures):
        return True
    try:
        value = Decimal(re.sub(r"[^\d.]", "", word).strip(".") or "0")
    except ArithmeticError:
        return False
    minutes = re.fullmatch(r"(\d{1,2}):(\d\d)", word)
    return value in said_of(index).numbers or bool(minutes and int(minutes[1]) * 60 + int(minutes[2]) in said_of(index).times)


def in_other_words(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text of several words most of which the document uses; no other word of it may be one of the document's, misspelt."""
    if not isinstance(value, str) or field.schema.get("pattern") or field.kind != "text":
        return None
    words = [plain(word) for word in re.findall(r"[^\W\d_]{2,}", value)]
    if len(words) < 2 or not _as_printed(value, index) or not _mostly_used(field, words, index):
        return None
    rest = rests_on(field, value, index)
    return evidence_at(index, rest.place, 0.65, "decided") if rest else None


def _as_printed(value: str, index: Index) -> bool:
    """Whether what has figures, and each letter alone, stands in the document as it is."""
    pieces = [*(word for word in value.split() if _is_fact(word)), *re.findall(r"(?<!\w)[^\W\d_](?!\w)", value)]
    return all(any(place.exact for place in index.find_text(piece)) for piece in pieces)


def _mostly_used(field: Field, words: Sequence[str], index: Index) -> bool:
    """Whether the document uses most of some words, in one form or another, and has none of them misspelt; short ones of a copied text just so."""
    printed = index.once("stems of words", _stems_printed)
    if field.copied and any(word not in printed.get(word[:STEM], ()) for word in words if len(word) < LEAST):
        return False
    telling = [word for word in words if len(word) >= LEAST]
    missing = [word for word in telling if not _of_a_stem(word, printed)]
    most = COPIED_MISSING if field.copied else OTHERS
    return len(missing) <= most * len(telling) and not any(_misspelt(word, printed) for word in words)


def _of_a_stem(word: str, printed: Mapping[str, set[str]]) -> bool:
    """Whether the document has a word of the same stem and of about its length."""
    return any(abs(len(other) - len(word)) <= LONGER for other in printed.get(word[:STEM], ()))


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
    if not isinstance(value, str) or not any(c.isdecimal() for c in value) or len(squeezed(value)) < 4:
        return None
    wanted = squeezed(value).translate(_ALIKE)
    for page in index.document.pages:
        if page.source == "ocr":
            printed = [squeezed(word.text).translate(_ALIKE) for word in page.words]
            text = "".join(printed)
            at = text.find(wanted)
            if at >= 0:
                first = next(n for n in range(len(printed)) if len("".join(printed[: n + 1])) > at)
                return evidence_at(index, Place(page.number, (first,)), MISREAD_TEXT if len(value.split()) > 1 else MISREAD, "mapped")
    return None


_ALIKE = str.maketrans("olisbzg", "0115829")
