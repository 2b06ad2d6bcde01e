"""What was said: WebVTT (W3C), SubRip, transcripts as text or JSON; damaged time stamps are mended and reported."""

from __future__ import annotations

import html
import re
from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from itertools import pairwise
from typing import Any

from metrikon.core.documents.model import Document, Fact, Sentence
from metrikon.core.documents.setting import Block, Paragraph, Piece, paragraph
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built
from metrikon.readers.charset import decoded

_ARROW = re.compile(r"^\s*(\S+)\s*[-–—]{1,3}>\s*(\S+)")
_STAMP = re.compile(r"^\[?\(?(?:(\d{1,3}):)?(\d{1,3}):(\d{1,2})(?:[.,:](\d{1,3}))?\)?\]?$")
_VOICE = re.compile(r"<v(?:\.[^\s>]*)?\s+([^>]{1,80})>", re.I)
_TAG = re.compile(r"</?[a-z][^>]{0,80}>|<\d[\d:.]*>", re.I)
_SPEAKER = re.compile(r"^(?:-\s*)?([^\W\d_][\w .'’-]{0,40}?)\s*(?:\[(\S+)\]|\((\d\S+)\))?\s*:\s+(.+)$")
_TIMED = re.compile(r"^\s*[\[(]?(\d{1,3}:\d{2}(?::\d{2})?(?:[.,]\d{1,3})?)[\])]?\s*[-–]?\s+(.*)$")
MOST_HEAD = 20  # lines before the first that is said
_TEXT_KEYS = ("text", "sentence", "content", "transcript", "utterance", "line")
_SPEAKER_KEYS = ("speaker", "speaker_name", "name", "role", "who", "participant", "user")
_START_KEYS = ("start", "start_time", "starttime", "begin", "from", "time", "timestamp", "offset")
_END_KEYS = ("end", "end_time", "endtime", "to", "until")


class CueReader:
    """Reads WebVTT and SubRip."""

    formats: tuple[str, ...] = ("vtt", "srt")

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Sentences with speaker and times."""
        found = decoded(data)
        if found is None:
            raise Refused("broken", "The file holds bytes that are no text.")
        carried = Carried()
        sentences = _cues(found.text, carried.warnings)
        if not sentences:
            carried.warnings.append("The file holds no cues.")
        kind = "vtt" if found.text.lstrip("\ufeff").lstrip().startswith("WEBVTT") else "srt"
        return transcript(sha256, kind, sentences, limits, carried, _head(found.text) if kind == "vtt" else ())


def _head(text: str) -> list[str]:
    """What a WebVTT file says before its first cue: its title, the notes (when and where it was recorded)."""
    found: list[str] = []
    for block in re.split(r"\r?\n\s*\r?\n", text.lstrip("\ufeff").strip()):
        lines = [line.strip() for line in block.splitlines() if line.strip()]
        if any("-->" in line for line in lines):
            break
        if lines and lines[0].startswith(("WEBVTT", "NOTE")):
            lines[0] = re.sub(r"^(?:WEBVTT|NOTE)\s*-?\s*", "", lines[0])
            found += [clean(line) for line in lines if clean(line)]
    return found[:MOST_HEAD]


def transcript(
    sha256: str, name: str, sentences: Sequence[Sentence], limits: Limits, carried: Carried, head: Sequence[str] = (), shown: Sequence[Fact] = ()
) -> Document:
    """A document of sentences, a paragraph each: time, speaker, words. `head`: lines that stand before; `shown`: facts that do."""
    before: list[Block] = [paragraph(line) for line in head]
    return built(sha256, name, [*before, *(_set(each) for each in mended(sentences, carried.warnings))], limits, carried, shown)


def _set(sentence: Sentence) -> Block:
    time = f"{clock(sentence.start)} " if sentence.start is not None else ""
    who = f"{sentence.speaker}: " if sentence.speaker else ""
    return Paragraph((Piece(f"{time}{who}{sentence.text}"),), 0, sentence)


def clock(milliseconds: int) -> str:
    """A time from the start as h:mm:ss."""
    seconds = milliseconds // 1000
    return f"{seconds // 3600}:{seconds // 60 % 60:02}:{seconds % 60:02}"


def mended(sentences: Iterable[Sentence], warnings: list[str]) -> list[Sentence]:
    """Ends before starts are dropped, sentences are put in the order of their starts; both are reported."""
    found: list[Sentence] = []
    backwards = 0
    for each in sentences:
        if each.start is not None and each.end is not None and each.end < each.start:
            backwards += 1
            each = Sentence(each.text, each.speaker, each.start, None)
        found.append(each)
    if backwards:
        what = "One sentence" if backwards == 1 else f"{backwards} sentences"
        warnings.append(f"{what} ended before the beginning; the end was left out.")
    starts = [each.start for each in found if each.start is not None]
    if len(starts) == len(found) and starts != sorted(starts):
        warnings.append("The sentences were not in the order of their times; they are now.")
        found.sort(key=lambda each: each.start or 0)
    return found


def milliseconds(stamp: str) -> int | None:
    """A time stamp in milliseconds: 1:02:03.400, 02:03,4, [00:05]; None when it is none."""
    match = _STAMP.match(stamp.strip())
    if not match:
        return None
    hours, minutes, seconds, rest = match.groups()
    if int(seconds) > 59 or (hours and int(minutes) > 59):
        return None
    return ((int(hours or 0) * 60 + int(minutes)) * 60 + int(seconds)) * 1000 + int((rest or "0").ljust(3, "0"))


def _cues(text: str, warnings: list[str]) -> list[Sentence]:
    found: list[Sentence] = []
    broken = 0
    for block in re.split(r"\r?\n\s*\r?\n", text.lstrip("\ufeff")):
        lines = [line for line in block.splitlines() if line.strip()]
        if not lines or lines[0].startswith(("WEBVTT", "NOTE", "STYLE", "REGION")):
            continue
        at = next((n for n, line in enumerate(lines[:3]) if "->" in line or "—>" in line or "–>" in line), None)
        if at is None:
            if found:  # an empty line within a cue: its words go on
                found[-1] = _longer(found[-1], " ".join(lines))
            continue
        match = _ARROW.match(lines[at])
        start, end = (milliseconds(match.group(1)), milliseconds(match.group(2))) if match else (None, None)
        if start is None or end is None:
            broken += 1
            start = start if start is not None else (found[-1].end or found[-1].start) if found else None
        spoken = " ".join(lines[at + 1 :])
        voices = _VOICE.findall(spoken)
        words = clean(html.unescape(_TAG.sub("", spoken)))
        speaker = clean(html.unescape(voices[0])) if voices else ""
        if not speaker and (said := _SPEAKER.match(words)):
            speaker, words = said.group(1), said.group(4)
        if not speaker and found and found[-1].text[-1] not in _ENDS:
            speaker = found[-1].speaker  # a sentence that goes on
        if words:
            found.append(Sentence(words, speaker, start, end))
    if broken:
        what = "One time stamp was" if broken == 1 else f"{broken} time stamps were"
        warnings.append(f"{what} damaged, and taken from what stands around or left out.")
    return found


_ENDS = ".!?…。"


def _longer(sentence: Sentence, more: str) -> Sentence:
    return Sentence(f"{sentence.text} {clean(_TAG.sub('', more))}", sentence.speaker, sentence.start, sentence.end)


def spoken_lines(text: str) -> tuple[list[str], list[Sentence]]:
    """The lines before the first that is said, and the sentences of a text whose lines name who speaks; nothing when it is another kind of text."""
    lines = [line for line in text.splitlines() if line.strip()]
    found: list[Sentence] = []
    head: list[str] = []
    for line in lines:
        timed = _TIMED.match(line)
        start = milliseconds(timed.group(1)) if timed else None
        rest = timed.group(2) if timed and start is not None else line.strip()
        said = _SPEAKER.match(rest)
        if said:
            within = said.group(2) or said.group(3)
            found.append(Sentence(clean(said.group(4)), said.group(1), start if start is not None else milliseconds(within or ""), None))
        elif start is not None and rest:
            found.append(Sentence(clean(rest), found[-1].speaker if found else "", start, None))
        elif found:
            found[-1] = Sentence(f"{found[-1].text} {clean(line)}", found[-1].speaker, found[-1].start, None)
        elif len(head) < MOST_HEAD:
            head.append(clean(line))
        else:
            return [], []
    head, found = _without_fields(head, found)
    named = sum(bool(each.speaker) for each in found)
    speakers = {each.speaker for each in found if each.speaker}
    turns = sum(a.speaker != b.speaker for a, b in pairwise(found))
    again = named > len(speakers)  # someone speaks twice: fields of a letterhead do not come back
    spoken = named >= 3 and named >= 0.6 * (len(lines) - len(head)) and len(speakers) <= 30 and again and turns >= 2
    return (head, found) if spoken else ([], [])


def _without_fields(head: list[str], found: list[Sentence]) -> tuple[list[str], list[Sentence]]:
    """Lines such as "Date: 3 May" before the talk begins are no one's words: who speaks comes back, or has a time."""
    counts: dict[str, int] = {}
    for each in found:
        counts[each.speaker] = counts.get(each.speaker, 0) + 1
    at = next((n for n, each in enumerate(found) if counts[each.speaker] > 1 or each.start is not None), len(found))
    at = at if at <= MOST_HEAD else 0
    return [*head, *(f"{each.speaker}: {each.text}" for each in found[:at])], found[at:]


def spoken_json(value: Any) -> tuple[list[Sentence], Any]:
    """The sentences of a JSON list of them, wherever it stands and whatever its keys are, and that list; nothing when there is none."""
    for rows in _lists(value, 0):
        found = [_from_row(row) for row in rows if isinstance(row, Mapping)]
        good = [each for each in found if each is not None]
        if len(good) >= 2 and len(good) >= 0.8 * len(rows) and any(each.speaker or each.start is not None for each in good):
            return good, rows
    for rows in _lists(value, 0):
        good = _by_their_values(rows, value)
        if good:
            return good, rows
    return [], None


def _by_their_values(rows: Sequence[Any], whole: Any) -> list[Sentence]:
    """Sentences of rows whose keys are not known: the longest texts are said, a few short ones that come back say by whom."""
    flat = [row for row in rows if isinstance(row, Mapping)]
    if len(flat) < 4 or len(flat) < 0.8 * len(rows):
        return []
    texts: dict[Any, list[Any]] = {key: [row.get(key) for row in flat] for key in dict.fromkeys(key for row in flat for key in row)}
    strings: dict[Any, list[str]] = {key: values for key, values in texts.items() if all(isinstance(each, str) for each in values)}
    words = {key: sum(len(each.split()) for each in values) / len(flat) for key, values in strings.items()}
    said = max(words, key=lambda key: words[key], default=None)
    by = [key for key, values in strings.items() if key != said and 2 <= len(set(values)) <= max(2, len(flat) // 3) and max(map(len, values)) <= 40]
    if said is None or words[said] < 3 or not by:
        return []
    names = _named(whole, set(strings[by[0]]))
    found = []
    for row in flat:
        spans = [
            part
            for part in row.values()
            if isinstance(part, list) and len(part) == 2 and all(isinstance(each, int | float | Decimal) for each in part)
        ]
        start, end = (
            (round(float(spans[0][0]) * 1000), round(float(spans[0][1]) * 1000)) if spans else (_time(row, _START_KEYS), _time(row, _END_KEYS))
        )
        speaker = clean(str(row[by[0]]))
        if clean(row[said]):
            found.append(Sentence(clean(row[said]), names.get(speaker, speaker), start, end))
    return found


def _named(value: Any, codes: set[str], depth: int = 0) -> Mapping[str, str]:
    """What a file calls its speakers where it codes them."""
    if depth < 5 and isinstance(value, Mapping):
        if codes <= set(value) and all(isinstance(value[code], str) for code in codes):
            return {code: clean(str(value[code])) for code in codes}
        for part in value.values():
            found = _named(part, codes, depth + 1)
            if found:
                return found
    return {}


def _lists(value: Any, depth: int) -> Iterable[list[Any]]:
    if depth > 4:
        return
    if isinstance(value, list) and value:
        yield value
    if isinstance(value, Mapping):
        for part in value.values():
            yield from _lists(part, depth + 1)


def _from_row(row: Mapping[str, Any]) -> Sentence | None:
    text = _first(row, _TEXT_KEYS)
    if not isinstance(text, str) or not clean(text):
        return None
    speaker = _first(row, _SPEAKER_KEYS)
    if isinstance(speaker, Mapping):
        speaker = _first(speaker, ("name", "label", "id"))
    return Sentence(clean(text), clean(str(speaker)) if speaker is not None else "", _time(row, _START_KEYS), _time(row, _END_KEYS))


def _time(row: Mapping[str, Any], keys: Sequence[str]) -> int | None:
    for key in (*keys, *(f"{key}_ms" for key in keys)):
        value = next((v for k, v in row.items() if k.lower() == key), None)
        if isinstance(value, str):
            plain = milliseconds(value)
            if plain is None and re.fullmatch(r"\d+(\.\d+)?s?", value.strip()):
                plain = round(float(value.strip().rstrip("s")) * 1000)
            return plain
        if isinstance(value, int | float) and not isinstance(value, bool) and 0 <= value < 1e10:
            whole = key.endswith("_ms") or (isinstance(value, int) and value > 36_000)  # that many seconds are ten hours
            return round(value if whole else value * 1000)
        if value is not None and not isinstance(value, bool | Mapping | list):
            return round(float(value) * 1000)  # an exact decimal number of seconds
    return None


def _first(row: Mapping[str, Any], keys: Sequence[str]) -> Any:
    return next((v for key in keys for k, v in row.items() if k.lower() == key and v not in (None, "")), None)
