"""Transcription here: a speech engine in a process of its own, with a model folder that its user brings.

Needs the extra `speech` (faster-whisper) and a folder with a model in the form of CTranslate2. The process gets the recording on its
standard input and has no other; it can be killed without the service noticing more than a failed step. A long recording is heard in
pieces, each kept when it was heard: whoever asks again goes on after the last of them.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from pathlib import Path
from typing import IO, Any

from metrikon.ports.transcription import HeardSoFar, TranscriptionDown, TranscriptionRefused
from metrikon.transcription.pieces import Heard, together

NO_ENGINE, BROKEN, NO_MODEL = 3, 4, 5  # exit codes of the process
Progress = Callable[[HeardSoFar], None]
Kept = Callable[[str], Path]  # where a file of this name lies that is made from another file, whose hash begins it


def nobody(far: HeardSoFar) -> None:
    """Nobody is told."""


class LocalTranscriber:
    """Hears recordings on this machine. `seconds`: longest for one piece. `kept`: where pieces wait for the next ones; without it they
    are lost when the process is killed."""

    command = (sys.executable, "-m", "metrikon.transcription.hearing")

    def __init__(self, folder: Path, seconds: float = 600.0, kept: Kept | None = None, told: Progress = nobody) -> None:
        self.folder = folder
        self.name = folder.name or "speech model"
        self._seconds = seconds
        self._kept = kept
        self._told = told
        self._under_way: dict[str, subprocess.Popen[bytes]] = {}  # by the hash of the recording

    def transcribe(self, data: bytes, format: str) -> bytes:
        """What was said as JSON. Raises `TranscriptionDown` and `TranscriptionRefused`."""
        if not (self.folder / "model.bin").is_file():
            raise TranscriptionRefused(f"There is no speech model in {self.folder} (setting transcription_folder): model.bin is missing.")
        with contextlib.ExitStack() as stack:
            kept = self._kept or Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="metrikon-heard-"))).joinpath
            sha256 = hashlib.sha256(data).hexdigest()
            heard = Heard(kept(self._name_of(sha256)))
            if not heard.complete:
                heard.begin()
                self._hear(data, sha256, heard)
            return together(heard.pieces)

    def so_far(self, sha256: str) -> HeardSoFar | None:
        """How much of a recording was heard and is kept."""
        return Heard(self._kept(self._name_of(sha256))).so_far if self._kept else None

    def done(self, sha256: str) -> None:
        """The pieces of a recording are not needed any more: their answer is kept elsewhere."""
        if self._kept:
            Heard(self._kept(self._name_of(sha256))).done()

    def _name_of(self, sha256: str) -> str:
        """What another model has heard lies in another file; a model whose file has changed is another."""
        with contextlib.suppress(OSError):
            about = (self.folder / "model.bin").stat()
            model = f"{self.folder.resolve()} {about.st_size} {about.st_mtime_ns}"
            return f"{sha256}-{hashlib.sha256(model.encode()).hexdigest()[:12]}.heard"
        return f"{sha256}-.heard"

    def stop(self, sha256: str) -> None:
        """A recording is heard no further; what was heard of it is kept."""
        process = self._under_way.get(sha256)
        if process is not None:
            process.kill()

    def _hear(self, data: bytes, sha256: str, heard: Heard) -> None:
        """The pieces that are missing, each kept as it comes."""
        command = [*self.command, str(self.folder), str(len(heard.pieces)), heard.language]
        process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self._under_way[sha256] = process
        late = threading.Event()
        try:
            assert process.stdin
            assert process.stdout
            threading.Thread(target=_fed, args=(process.stdin, data), daemon=True).start()
            while line := self._line(process, late):
                self._told(heard.keep(json.loads(line)))
            code = process.wait(self._seconds)
        except FileNotFoundError as error:
            raise TranscriptionDown("What was heard of the recording was removed while it was heard.") from error
        finally:
            self._under_way.pop(sha256, None)
            if not heard.pieces:
                heard.done()
            process.kill()
            process.wait()
            if process.stdout:
                process.stdout.close()
        self._ended(code, late.is_set(), heard)

    def _line(self, process: subprocess.Popen[bytes], late: threading.Event) -> bytes:
        """The next piece; nothing at the end, or when its time was over."""

        def over() -> None:
            late.set()
            process.kill()

        watch = threading.Timer(self._seconds, over)
        watch.daemon = True
        watch.start()
        try:
            assert process.stdout
            line = process.stdout.readline()
            return line if line.endswith(b"\n") else b""
        finally:
            watch.cancel()

    def _ended(self, code: int, late: bool, heard: Heard) -> None:
        """Why a process ended before all was heard."""
        if late:
            raise TranscriptionRefused(f"A piece of the recording was not transcribed within {self._seconds:g} seconds.")
        if code == NO_ENGINE:
            raise TranscriptionRefused("The speech engine is not installed: make speech, or pip install 'metrikon[speech]'.")
        if code == NO_MODEL:
            raise TranscriptionRefused(
                f"The speech model in {self.folder} (setting transcription_folder) cannot be used: it is broken or of another form."
            )
        if code == BROKEN:
            raise TranscriptionRefused("The recording cannot be played: it is broken or cut off.")
        if code != 0 or not heard.complete:
            so_far = f" {len(heard.pieces)} pieces were heard and are kept: try again to go on." if heard.pieces and self._kept else ""
            raise TranscriptionDown(f"The process that hears recordings ended with {code}.{so_far}")

    def close(self) -> None:
        """Nothing is held."""


def _fed(stream: IO[Any], data: bytes) -> None:
    """The recording goes in; a process that ended takes no more of it."""
    with contextlib.suppress(BrokenPipeError, OSError):
        stream.write(data)
    with contextlib.suppress(BrokenPipeError, OSError):
        stream.close()
