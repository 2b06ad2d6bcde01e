"""The process that hears one recording: its bytes on standard input, JSON with segments on standard output."""

from __future__ import annotations

import io
import json
import os
import sys
from typing import Any

from metrikon.transcription.local import BROKEN, NO_ENGINE


def hear(folder: str, recording: bytes) -> dict[str, Any]:
    """Text and segments of a recording, times in seconds. Raises ImportError without the engine, ValueError when it cannot be played."""
    os.environ["HF_HUB_OFFLINE"] = "1"  # models come from the folder, never from elsewhere
    from faster_whisper import WhisperModel

    model = WhisperModel(folder, device="cpu", compute_type="int8", local_files_only=True)
    try:
        found, about = model.transcribe(io.BytesIO(recording), vad_filter=False)
        segments = [{"start": round(each.start, 2), "end": round(each.end, 2), "text": each.text.strip()} for each in found]
    except (RuntimeError, OSError, ValueError, IndexError) as error:
        raise ValueError(str(error)) from error
    return {"text": " ".join(each["text"] for each in segments), "language": about.language, "segments": segments}


def main() -> int:
    """Hear what stands on the standard input."""
    try:
        answer = hear(sys.argv[1], sys.stdin.buffer.read())
    except ImportError:
        return NO_ENGINE
    except ValueError:
        return BROKEN
    sys.stdout.write(json.dumps(answer))
    return 0


if __name__ == "__main__":
    sys.exit(main())
