"""Transcription here: a speech engine in a process of its own, with a model folder that its user brings.

Needs the extra `speech` (faster-whisper) and a folder with a model in the form of CTranslate2. The
process gets the recording on its standard input and has no other; it can be killed without the
service noticing more than a failed step.
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from metrikon.ports.transcription import TranscriptionDown, TranscriptionRefused

NO_ENGINE, BROKEN = 3, 4  # exit codes of the process


class LocalTranscriber:
    """Hears recordings on this machine."""

    def __init__(self, folder: Path, seconds: float = 600.0) -> None:
        self.folder = folder
        self.name = folder.name or "speech model"
        self._seconds = seconds

    def transcribe(self, data: bytes, format: str) -> bytes:
        """What was said as JSON. Raises `TranscriptionDown` and `TranscriptionRefused`."""
        if not (self.folder / "model.bin").is_file():
            raise TranscriptionRefused(f"There is no speech model in {self.folder} (setting transcription_folder): model.bin is missing.")
        command = [sys.executable, "-m", "metrikon.transcription.hearing", str(self.folder)]
        try:
            done = subprocess.run(command, input=data, capture_output=True, timeout=self._seconds)
        except subprocess.TimeoutExpired as error:
            raise TranscriptionRefused(f"The recording was not transcribed within {self._seconds:g} seconds.") from error
        if done.returncode == NO_ENGINE:
            raise TranscriptionRefused("The speech engine is not installed: pip install 'metrikon[speech]'.")
        if done.returncode == BROKEN:
            raise TranscriptionRefused("The recording cannot be played: it is broken or cut off.")
        if done.returncode != 0:
            raise TranscriptionDown(f"The process that hears recordings ended with {done.returncode}.")
        return done.stdout

    def close(self) -> None:
        """Nothing is held."""
