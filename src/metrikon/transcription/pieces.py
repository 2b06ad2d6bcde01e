"""A long recording in pieces: where it is cut, what was heard so far, and what all pieces come to."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from metrikon.ports.transcription import HeardSoFar

RATE = 16_000  # samples a second, mono
PIECE, QUIET = 120, 15  # seconds of a piece at most, and before its end within which the quietest moment is looked for
FRAME = 0.1  # seconds over which loudness is taken


def cuts(samples: Any) -> list[tuple[int, int]]:
    """The pieces of a recording, as (first, end) samples: each ends where it is quietest, so that no word is cut.

    `samples`: a one-dimensional array of floats, `RATE` a second.
    """
    whole = len(samples)
    found: list[tuple[int, int]] = []
    begin = 0
    while whole - begin > PIECE * RATE:
        end = _quietest(samples, begin + (PIECE - QUIET) * RATE, begin + PIECE * RATE)
        found.append((begin, end))
        begin = end
    return [*found, (begin, whole)]


def _quietest(samples: Any, first: int, last: int) -> int:
    step = int(FRAME * RATE)
    loud = [(float((samples[at : at + step] ** 2).mean()), at) for at in range(first, last - step, step)]
    return min(loud)[1] + step // 2


class Heard:
    """The pieces of one recording that were heard, kept in a file of their own: a line of JSON each, in order. A last line cut off is none."""

    def __init__(self, place: Path) -> None:
        self.place = place
        self.pieces: list[dict[str, Any]] = []
        self._whole = 0  # bytes of the lines that are whole
        try:
            lines = place.read_bytes().splitlines(keepends=True)
        except OSError:
            lines = []
        for line in lines:
            piece = _piece(line)
            if piece is None:
                break
            self._take(piece, line)

    def begin(self) -> None:
        """From here on the file is there until all was heard, or nobody wants the recording any more."""
        self.place.parent.mkdir(parents=True, exist_ok=True)
        self.place.touch()

    def keep(self, piece: dict[str, Any]) -> HeardSoFar:
        """The next piece; how far it goes. Raises FileNotFoundError when the file was removed since it began."""
        line = json.dumps(piece).encode() + b"\n"
        with self.place.open("r+b") as out:
            out.truncate(self._whole)
            out.seek(self._whole)
            out.write(line)
        self._take(piece, line)
        return _far(self.pieces)

    def done(self) -> None:
        """Nothing of it is needed any more."""
        self.place.unlink(missing_ok=True)

    @property
    def so_far(self) -> HeardSoFar | None:
        """How much of the recording the pieces are; None before the first."""
        return _far(self.pieces) if self.pieces else None

    @property
    def language(self) -> str:
        """The language of the first piece (ISO 639-1); empty before it was heard."""
        return str(self.pieces[0].get("language") or "") if self.pieces else ""

    @property
    def complete(self) -> bool:
        """Whether all pieces were heard."""
        return bool(self.pieces) and len(self.pieces) >= int(self.pieces[0]["of"])

    def _take(self, piece: dict[str, Any], line: bytes) -> None:
        self.pieces.append(piece)
        self._whole += len(line)


def _far(pieces: Sequence[dict[str, Any]]) -> HeardSoFar:
    return HeardSoFar(float(pieces[-1]["until"]), len(pieces), int(pieces[-1]["of"]))


def _piece(line: bytes) -> dict[str, Any] | None:
    """The piece in a line; None when the line is none, or was cut off."""
    if not line.endswith(b"\n"):
        return None
    try:
        found = json.loads(line)
    except ValueError:
        return None
    return found if isinstance(found, dict) and {"segments", "of", "until"} <= found.keys() else None


def together(pieces: Sequence[dict[str, Any]]) -> bytes:
    """The answer of a transcription that all pieces make."""
    segments = [segment for piece in pieces for segment in piece["segments"]]
    text = " ".join(str(each["text"]) for each in segments)
    language = next((piece["language"] for piece in pieces if piece.get("language")), None)
    return json.dumps({"text": text, "language": language, "segments": segments}).encode()
