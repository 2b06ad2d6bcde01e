"""Recordings: told by their bytes; what was said in them comes from a transcription, which is read like any transcript."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.documents.model import Document, Page, Sentence
from metrikon.core.extraction.indexing.index import squeezed
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried
from metrikon.readers.spoken import spoken_json, transcript

UNHEARD = "The file is a recording. It can be read once a transcription service is set (setting transcription_url or transcription_folder)."
FORMATS = ("wav", "mp3", "ogg", "flac", "m4a")
WANTED = "needs-transcription"  # the code of the refusal that asks for a transcription


class RecordingReader:
    """Knows recordings; cannot hear."""

    formats: tuple[str, ...] = FORMATS

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Always refuses: a recording has to be transcribed first."""
        raise Refused(WANTED, UNHEARD)


def heard(answer: bytes, sha256: str, format: str, name: str, limits: Limits) -> Document:
    """The document of a recording, from the answer of a transcription. Raises `Refused` when it is none."""
    try:
        value = loads(answer)
    except NotJson as error:
        raise Refused("not-heard", f"The transcription service {name} answered with something that is no JSON.") from error
    carried = Carried()
    sentences, _ = spoken_json(value)
    if not sentences and isinstance(value, dict):
        segments = value.get("segments")
        rows = segments if isinstance(segments, list) else [value]
        texts = [clean(str(row.get("text") or "")) for row in rows if isinstance(row, dict)]
        sentences = [Sentence(text) for text in texts if text]
    if not sentences:
        carried.warnings.append(f"The transcription service {name} heard no words.")
    if isinstance(value, dict) and value.get("stand_in"):
        carried.warnings.append(f"These words come from the stand-in of {name}, which returns the text stored beside the recording.")
    document = transcript(sha256, format, sentences, limits, carried)
    return with_certainty(document, value) if isinstance(value, dict) else document


def with_certainty(document: Document, answer: Mapping[str, Any]) -> Document:
    """The document with how surely each word was heard, where a transcription tells it (`words` of a segment, each with `probability`)."""
    told = {clean(str(each.get("text") or "")): each["words"] for each in _segments(answer) if isinstance(each.get("words"), list)}
    sure: dict[int, dict[int, float]] = {}
    for sentence in document.sentences:
        words = told.get(sentence.text)
        if words and sentence.words:
            here = sentence.words[-len(sentence.text.split()) :]
            sure.setdefault(sentence.page, {}).update(zip(here, _sure(sentence.text.split(), words), strict=False))
    if not sure:
        return document
    pages = tuple(_page(page, sure.get(page.number, {})) for page in document.pages)
    return msgspec.structs.replace(document, pages=pages)


def _segments(answer: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    segments = answer.get("segments")
    return [each for each in segments if isinstance(each, Mapping)] if isinstance(segments, list) else []


def _sure(texts: Sequence[str], words: Sequence[Any]) -> list[float]:
    """How surely each word of a text was heard: as the least of the pieces that a transcription made of it."""
    pieces = [(squeezed(str(each.get("word") or "")), each.get("probability")) for each in words if isinstance(each, Mapping)]
    found: list[float] = []
    at = 0
    for text in texts:
        wanted, least = squeezed(text), 1.0
        while wanted and at < len(pieces) and pieces[at][0] and wanted.startswith(pieces[at][0]):
            wanted = wanted[len(pieces[at][0]) :]
            least = min(least, _share(pieces[at][1]))
            at += 1
        while at < len(pieces) and not pieces[at][0]:
            at += 1
        found.append(least)
    return found


def _share(value: Any) -> float:
    given = float(value) if isinstance(value, int | float | Decimal) and not isinstance(value, bool) else 1.0
    return min(1.0, max(0.0, given))


def _page(page: Page, sure: Mapping[int, float]) -> Page:
    if not sure:
        return page
    words = tuple(msgspec.structs.replace(word, sure=sure[number]) if number in sure else word for number, word in enumerate(page.words))
    return msgspec.structs.replace(page, words=words)
