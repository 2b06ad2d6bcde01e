"""What reading is set to: its limits, and what transcribes recordings. The commands that read files without a service load no more of the house."""

from __future__ import annotations

import dataclasses
from pathlib import Path

from metrikon.app.settings import Settings
from metrikon.ports.reader import Limits
from metrikon.ports.transcription import Transcriber
from metrikon.store.files import DiskFiles
from metrikon.transcription.http import HttpTranscriber, SpeechSettings
from metrikon.transcription.local import LocalTranscriber, Progress, nobody


def limits_of(settings: Settings) -> Limits:
    """The limits of reading."""
    return Limits(**{each.name: getattr(settings, each.name) for each in dataclasses.fields(Limits)})


def transcriber_of(settings: Settings, told: Progress = nobody) -> Transcriber | None:
    """What transcribes recordings, if anything is set: a model here, or a service. `told`: gets how far a model here is."""
    if settings.transcription_folder:
        kept = DiskFiles(settings.home).derived_path if settings.home.is_dir() else None
        return LocalTranscriber(Path(settings.transcription_folder), kept=kept, told=told)
    if not settings.transcription_url:
        return None
    return HttpTranscriber(SpeechSettings(settings.transcription_url, settings.transcription_model, settings.transcription_key))
