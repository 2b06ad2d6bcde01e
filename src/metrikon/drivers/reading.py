"""Reading in worker processes, which can be killed without the service noticing more than a failed step."""

from __future__ import annotations

import dataclasses
import hashlib
import math
import re
import signal
import subprocess
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from metrikon.core.documents.model import Document, Part, from_bytes
from metrikon.core.values.exact import dumps, loads
from metrikon.drivers import telling
from metrikon.drivers.fair import FairShare
from metrikon.drivers.frames import OURS, SHORT, receive, send
from metrikon.drivers.surroundings import COMMAND, environment
from metrikon.ports.apart import Work
from metrikon.ports.behalf import UNTIL
from metrikon.ports.deaths import KILLS, Deaths, RememberedDeaths
from metrikon.ports.machine import MachineShort
from metrikon.ports.reader import Limits, Refused
from metrikon.ports.step import ReaderDied, WorkFailed

JOBS_A_WORKER = 2000  # then it is replaced, so that memory stays flat whatever libraries keep
KNOWN = 32  # documents that it may have at hand
SET_ASIDE = "set-aside"  # the code of a file that has ended too many processes
OVER = "The limit of the step was over before it was read."
_KEPT_ALIVE: tuple[type[Exception], ...] = (Refused, WorkFailed, *telling.ERRORS)  # what a process tells, and goes on
_HASH = re.compile(r"[0-9a-f]{64}")
WATCH = 0.1  # seconds between looks at how long they take


class _Worker:
    def __init__(self, memory_mb: int) -> None:
        streams = subprocess.PIPE
        self.process = subprocess.Popen(COMMAND, stdin=streams, stdout=streams, stderr=subprocess.DEVNULL, env=environment(memory_mb))
        self.jobs = 0
        self.knows: deque[str] = deque(maxlen=KNOWN)  # paths of documents that it was asked about last: it has them at hand
        self.until = math.inf  # when it must have answered
        self.late = False

    def watch(self, now: float) -> None:
        """End it when its time is over: whoever waits for its answer is told."""
        if now > self.until:
            self.late = True
            self.process.kill()

    def ask(self, request: Mapping[str, Any], seconds: float) -> bytes:
        """The bytes of an answer. Raises `Refused`, or `ReaderDied` when the process ended or ran out of time."""
        self.jobs += 1
        self.knows.append(str(request["path"]))
        assert self.process.stdin
        assert self.process.stdout
        self.until = time.monotonic() + seconds
        try:
            send(self.process.stdin, dumps(request))
            head = receive(self.process.stdout)
            body = receive(self.process.stdout) if head and loads(head)["ok"] else b""
        except (BrokenPipeError, OSError) as error:
            raise self._ended(seconds) from error
        finally:
            self.until = math.inf
        if head is None or body is None:
            raise self._ended(seconds)
        answer = loads(head)
        if not answer["ok"] and answer["code"] == SHORT:
            raise WorkFailed(f"{answer['reason']}.") from MachineShort(answer["reason"])
        if not answer["ok"] and answer["code"] == OURS:
            raise WorkFailed(answer["reason"])
        if not answer["ok"] and str(answer["code"]).startswith(telling.TOLD_AS):
            raise telling.BY_NAME[str(answer["code"]).removeprefix(telling.TOLD_AS)](answer["reason"])
        if not answer["ok"]:
            raise Refused(answer["code"], answer["reason"])
        return body

    def _ended(self, seconds: float) -> ReaderDied:
        """Why it gave no answer. The machine kills it when it has no memory left, which is no fault of the file; a library that stumbles ends it otherwise."""
        try:
            killed = not self.late and self.process.wait(1) == -signal.SIGKILL
        except subprocess.TimeoutExpired:
            killed = False
        if killed:
            return WorkFailed("The process that read the file was ended from outside; the machine may be short of memory.")
        if self.late and time.monotonic() >= UNTIL.get():
            return WorkFailed(OVER)
        why = f"took longer than {seconds:g} seconds (setting seconds)" if self.late else "made the process that read it end"
        return ReaderDied(f"Reading the file {why}.")

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        for stream in (self.process.stdin, self.process.stdout):
            try:
                if stream:
                    stream.close()
            except BrokenPipeError:
                pass  # what was still to be sent has no one to read it


class ReaderPool:
    """A few reading processes, started when first needed."""

    def __init__(self, size: int = 2, limits: Limits | None = None, deaths: Deaths | None = None) -> None:
        self.limits = limits or Limits()
        self._deaths = deaths or RememberedDeaths()
        self._free: FairShare[_Worker | None] = FairShare([None] * size)
        self._lock = threading.Lock()
        self._working: set[_Worker] = set()
        self._watch: threading.Thread | None = None
        self._done = threading.Event()

    def read(self, path: Path, limits: Limits | None = None, passwords: Sequence[str] = ()) -> Document:
        """The document in a file. Raises `Refused` and `ReaderDied`."""
        return from_bytes(self.read_bytes(path, limits, passwords))

    def read_bytes(self, path: Path, limits: Limits | None = None, passwords: Sequence[str] = ()) -> bytes:
        """As `read`, in the stored form."""
        given = limits or self.limits
        return self._ask({"op": "read", "path": str(path), "passwords": passwords, "limits": dataclasses.asdict(given)}, given.seconds)

    def keep(self, path: Path, place: Path, passwords: Sequence[str] = ()) -> bytes:
        """Read a file and put its document at `place`; its summary, in the stored form. `passwords` are tried on what is encrypted."""
        place.parent.mkdir(parents=True, exist_ok=True)
        request = {"op": "keep", "path": str(path), "place": str(place), "passwords": passwords, "limits": dataclasses.asdict(self.limits)}
        return self._ask(request, self.limits.seconds)

    def keep_heard(self, path: Path, place: Path, answer: bytes, name: str) -> bytes:
        """Put the document of a recording at `place`, made from the answer of a transcription; its summary."""
        place.parent.mkdir(parents=True, exist_ok=True)
        request = {"op": "heard", "path": str(path), "place": str(place), "answer": answer.decode("utf-8", "replace"), "name": name}
        return self._ask({**request, "limits": dataclasses.asdict(self.limits)}, self.limits.seconds)

    def keep_parts(self, path: Path, root: Path, passwords: Sequence[str] = ()) -> tuple[str, list[Part]]:
        """Put the files within a file into the file store at `root`; its format and those files.

        Raises `Refused` and `ReaderDied`.
        """
        request = {"op": "parts", "path": str(path), "root": str(root), "passwords": passwords, "limits": dataclasses.asdict(self.limits)}
        found = loads(self._ask(request, self.limits.seconds))
        return str(found["format"]), msgspec.convert(found["parts"], list[Part])

    def picture(self, path: Path, page: int, turned: float, dots: int, passwords: Sequence[str] = ()) -> bytes:
        """A page as PNG. Raises `Refused` and `ReaderDied`."""
        request = {"op": "picture", "path": str(path), "page": page, "turned": turned, "dots": dots, "passwords": passwords}
        return self._ask(request, self.limits.seconds)

    def do(self, work: Work, request: Mapping[str, Any], opens: Path | None = None, name: str = "") -> bytes:
        """What a work gives that is done apart (`ports.apart.Apart`)."""
        place = opens if opens is not None else Path(name)
        asked = {"op": "apart", "path": str(place), "work": f"{work.__module__}:{work.__qualname__}", "request": request}
        return self._ask(asked, self.limits.seconds, lambda: (_hash_of(opens), name) if opens is not None else None)

    def work(self, request: Mapping[str, Any]) -> bytes:
        """What an operation on a document gives. Raises `Refused` and `ReaderDied`."""
        return self._ask(request, self.limits.seconds)

    def close(self) -> None:
        """End all processes that are not busy; busy ones end when their work does."""
        self._done.set()
        for worker in self._free.idle():
            if worker:
                self._let_go(worker)

    def _started(self) -> _Worker:
        worker = _Worker(self.limits.memory_mb)
        with self._lock:
            self._working.add(worker)
            if self._watch is None:
                self._watch = threading.Thread(target=self._look_after, name="reading", daemon=True)
                self._watch.start()
        return worker

    def _look_after(self) -> None:
        while self._working or not self._done.is_set():
            time.sleep(WATCH)
            with self._lock:
                for worker in self._working:
                    worker.watch(time.monotonic())

    def _ask(self, request: Mapping[str, Any], seconds: float, file: Callable[[], tuple[str, str] | None] | None = None) -> bytes:
        """The answer to a request. `file`: hash and name of what it opens; without it that is a kept file, if any."""
        file = file or (lambda: _kept_file(request))
        if self._deaths.any() and (opened := file()) is not None and self._deaths.count(opened[0]) >= KILLS:
            raise Refused(
                SET_ASIDE, f"It has ended the process that opened it {KILLS} times and is set aside for a week, or until it is another file."
            )
        try:
            return self._asked(request, seconds)
        except WorkFailed:
            raise
        except ReaderDied:
            if (opened := file()) is not None:
                self._deaths.note(*opened)
            raise

    def _asked(self, request: Mapping[str, Any], seconds: float) -> bytes:
        seconds = min(seconds, UNTIL.get() - time.monotonic())
        if seconds <= 0:
            raise WorkFailed(OVER)
        worker = self._free.take(lambda each: each is not None and request["path"] in each.knows)
        if worker is None:
            try:
                worker = self._started()
            except OSError:
                self._free.give(None)
                raise
        keep = False
        try:
            answer = worker.ask(request, seconds)
            keep = True
            return answer
        except _KEPT_ALIVE:
            keep = worker.process.poll() is None
            raise
        finally:
            if not keep or worker.jobs >= JOBS_A_WORKER or self._done.is_set():
                self._let_go(worker)
                self._free.give(None)
            else:
                self._free.give(worker)

    def _let_go(self, worker: _Worker) -> None:
        with self._lock:
            self._working.discard(worker)
        worker.close()


def _kept_file(request: Mapping[str, Any]) -> tuple[str, str] | None:
    """Hash and name of the kept file that a request is about: files, and what is derived from them, are named by it."""
    found = _HASH.match(Path(request["path"]).name)
    return (found.group(0), "") if found else None


def _hash_of(path: Path) -> str:
    try:
        with path.open("rb") as source:
            return hashlib.file_digest(source, "sha256").hexdigest()
    except OSError:
        return ""
