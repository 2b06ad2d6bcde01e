"""The process that hears one recording: its bytes on standard input, a line of JSON for each piece on standard output.

    python -m metrikon.transcription.hearing FOLDER FIRST LANGUAGE

FOLDER holds the model. Pieces before FIRST are left out: they were heard before. LANGUAGE (ISO 639-1) is that of the pieces before, or
empty: then the first piece tells it.
"""

from __future__ import annotations

import io
import json
import os
import sys
import threading
import time
from collections.abc import Iterator
from typing import Any

from metrikon.transcription.local import BROKEN, NO_ENGINE, NO_MODEL
from metrikon.transcription.pieces import RATE, cuts

LOOK = 1.0  # seconds between two looks whether the process is still wanted


class NoModel(Exception):
    """The folder holds no model that can be used."""


def hear(folder: str, recording: bytes, first: int = 0, language: str = "") -> Iterator[dict[str, Any]]:
    """Text and segments of each piece, times in seconds, each word with how surely it was heard.

    Raises ImportError without the engine, `NoModel`, and ValueError when the recording cannot be played.
    """
    os.environ["HF_HUB_OFFLINE"] = "1"  # models come from the folder, never from elsewhere
    from faster_whisper import WhisperModel
    from faster_whisper.audio import decode_audio

    try:
        samples = decode_audio(io.BytesIO(recording), sampling_rate=RATE)
    except (RuntimeError, OSError, ValueError, IndexError) as error:
        raise ValueError(str(error)) from error
    spans = cuts(samples)
    try:
        model = WhisperModel(folder, device="cpu", compute_type="int8", local_files_only=True)
    except (RuntimeError, OSError, ValueError) as error:
        raise NoModel(str(error)) from error
    for number, (begin, end) in enumerate(spans):
        if number < first:
            continue
        found, about = model.transcribe(
            samples[begin:end], language=language or None, word_timestamps=True, vad_filter=False, condition_on_previous_text=False
        )
        segments = [_segment(each, begin / RATE) for each in found]
        language = language or about.language
        yield {"piece": number, "of": len(spans), "until": round(end / RATE, 2), "language": language, "segments": segments}


def _segment(heard: Any, after: float) -> dict[str, Any]:
    words = [{"word": each.word.strip(), "probability": round(float(each.probability), 3)} for each in heard.words or ()]
    return {"start": round(after + heard.start, 2), "end": round(after + heard.end, 2), "text": heard.text.strip(), "words": words}


def _end_with(parent: int) -> None:
    """End when whoever asked has ended: nobody takes what is heard then."""
    while os.getppid() == parent:
        time.sleep(LOOK)
    os._exit(0)


def main() -> int:
    """Hear what stands on the standard input."""
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    try:
        for piece in hear(sys.argv[1], sys.stdin.buffer.read(), int(sys.argv[2]), sys.argv[3]):
            sys.stdout.write(f"{json.dumps(piece)}\n")
            sys.stdout.flush()
    except ImportError:
        return NO_ENGINE
    except NoModel:
        return NO_MODEL
    except ValueError:
        return BROKEN
    return 0


if __name__ == "__main__":
    sys.exit(main())
