"""Recordings: told by their bytes; what was said in them comes from a transcription, which is read like any transcript."""

from __future__ import annotations

from metrikon.core.documents.model import Document, Sentence
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried
from metrikon.readers.spoken import spoken_json, transcript

FORMATS = ("wav", "mp3", "ogg", "flac", "m4a")
WANTED = "needs-transcription"  # the code of the refusal that asks for a transcription


class RecordingReader:
    """Knows recordings; cannot hear."""

    formats: tuple[str, ...] = FORMATS

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Always refuses: a recording has to be transcribed first."""
        raise Refused(
            WANTED, "The file is a recording. It can be read once a transcription service is set (setting transcription_url or transcription_folder)."
        )


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
    return transcript(sha256, format, sentences, limits, carried)
