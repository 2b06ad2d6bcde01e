"""Transcription: a recording in, what was said out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol


class TranscriptionDown(Exception):
    """No answer came; trying again later may help."""


class TranscriptionRefused(Exception):
    """The recording will not be transcribed; trying again does not help."""


@dataclass(frozen=True)
class HeardSoFar:
    """How far a transcription has come. `seconds` of the recording heard; `pieces` heard, of so many `in_all`."""

    seconds: float
    pieces: int
    in_all: int


class Transcriber(Protocol):
    """A service or engine that turns speech into text."""

    name: str

    def transcribe(self, data: bytes, format: str) -> bytes:
        """What was said as JSON: {"segments": [{"text", "start", "end", "speaker"?}], "text"?}, times in seconds.

        The answer is as little to be trusted as the recording. Raises `TranscriptionDown` or `TranscriptionRefused`.
        """
        ...

    def so_far(self, sha256: str) -> HeardSoFar | None:
        """How much of a recording was heard while it is not heard to the end; None when that is not known."""
        ...

    def stop(self, sha256: str) -> None:
        """Nobody waits for a recording any more: it is heard no further, if it is under way."""
        ...

    def done(self, sha256: str) -> None:
        """What was heard of a recording is kept elsewhere now; nothing of it must be kept for going on."""
        ...

    def close(self) -> None:
        """Let go of what is held."""
        ...
