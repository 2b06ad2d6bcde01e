"""Transcription: a recording in, what was said out."""

from __future__ import annotations

from typing import Protocol


class TranscriptionDown(Exception):
    """No answer came; trying again later may help."""


class TranscriptionRefused(Exception):
    """The recording will not be transcribed; trying again does not help."""


class Transcriber(Protocol):
    """A service or engine that turns speech into text."""

    name: str

    def transcribe(self, data: bytes, format: str) -> bytes:
        """What was said as JSON: {"segments": [{"text", "start", "end", "speaker"?}], "text"?}, times in seconds.

        The answer is as little to be trusted as the recording. Raises `TranscriptionDown` or `TranscriptionRefused`.
        """
        ...

    def close(self) -> None:
        """Let go of what is held."""
        ...
