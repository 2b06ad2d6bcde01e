"""A long recording in pieces: where it is cut, what was heard so far, and what all pieces come to."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import Any

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
    """The pieces of one recording that were heard, kept in a folder of its own: a file each, written whole or not at all."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.pieces: list[dict[str, Any]] = []
        while (found := self._read(len(self.pieces))) is not None:
            self.pieces.append(found)

    def keep(self, piece: dict[str, Any]) -> None:
        """The next piece."""
        self.folder.mkdir(parents=True, exist_ok=True)
        place = self.folder / f"{len(self.pieces):05}.json"
        part = place.with_suffix(".part")
        part.write_text(json.dumps(piece), "utf-8")
        os.replace(part, place)
        self.pieces.append(piece)

    def done(self) -> None:
        """Nothing of it is needed any more."""
        shutil.rmtree(self.folder, ignore_errors=True)

    @property
    def language(self) -> str:
        """The language of the first piece (ISO 639-1); empty before it was heard."""
        return str(self.pieces[0].get("language") or "") if self.pieces else ""

    @property
    def complete(self) -> bool:
        """Whether all pieces were heard."""
        return bool(self.pieces) and len(self.pieces) >= int(self.pieces[0]["of"])

    def _read(self, number: int) -> dict[str, Any] | None:
        try:
            found = json.loads((self.folder / f"{number:05}.json").read_text("utf-8"))
        except (OSError, ValueError):
            return None
        return found if isinstance(found, dict) and "segments" in found and "of" in found else None


def together(pieces: Sequence[dict[str, Any]]) -> bytes:
    """The answer of a transcription that all pieces make."""
    segments = [segment for piece in pieces for segment in piece["segments"]]
    text = " ".join(str(each["text"]) for each in segments)
    language = next((piece["language"] for piece in pieces if piece.get("language")), None)
    return json.dumps({"text": text, "language": language, "segments": segments}).encode()
