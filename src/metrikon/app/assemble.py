"""The whole house, built from settings: database, engine, intakes, models."""

from __future__ import annotations

import dataclasses
import logging
import threading
import time
from collections.abc import Callable, Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

from metrikon.app.settings import Settings
from metrikon.core.flows.model import FolderIntake
from metrikon.core.flows.verify import BadFlow
from metrikon.destinations.build import build
from metrikon.drivers.reading import ReaderPool
from metrikon.engine.answers import Answers
from metrikon.engine.arrivals import Arrivals, NoFlow
from metrikon.engine.catalog import Catalog
from metrikon.engine.delivering import Deliveries
from metrikon.engine.engine import Engine, EngineSettings
from metrikon.engine.house import EngineHouse
from metrikon.engine.opening import Opening, may_hold
from metrikon.engine.work import Bench
from metrikon.intakes.folder import Folder
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.models.pattern import PatternModel
from metrikon.ports.clock import Clock, SystemClock
from metrikon.ports.model import Model, Usage
from metrikon.ports.reader import Limits
from metrikon.ports.transcription import Transcriber
from metrikon.store import flows
from metrikon.store.database import Database, StoreFailed
from metrikon.store.files import DiskFiles
from metrikon.store.migrate import migrate
from metrikon.store.passwords import Passwords
from metrikon.transcription.http import HttpTranscriber, SpeechSettings
from metrikon.transcription.local import LocalTranscriber

log = logging.getLogger("metrikon.app")
SCAN = 0.5  # seconds between looks at watched folders


def limits_of(settings: Settings) -> Limits:
    """The limits of reading."""
    return Limits(**{each.name: getattr(settings, each.name) for each in dataclasses.fields(Limits)})


def transcriber_of(settings: Settings) -> Transcriber | None:
    """What transcribes recordings, if anything is set: a model here, or a service."""
    if settings.transcription_folder:
        return LocalTranscriber(Path(settings.transcription_folder))
    if not settings.transcription_url:
        return None
    return HttpTranscriber(SpeechSettings(settings.transcription_url, settings.transcription_model, settings.transcription_key))


def models_of(settings: Settings) -> tuple[dict[str, Model], str]:
    """Models by name, and the name of the default: the server's when one is set, else the pattern reader."""
    models: dict[str, Model] = {"pattern": PatternModel()}
    if not settings.model_url:
        return models, "pattern"
    label = settings.model_label or settings.model_name or "model"
    chat = ChatSettings(
        settings.model_url,
        settings.model_name,
        settings.model_key,
        timeout=settings.model_timeout,
        at_once=settings.model_calls_at_once,
        context=settings.model_context,
        most_tokens=settings.model_answer_tokens,
    )
    models[label] = ChatModel(chat, label)
    return models, label


class App:
    """Everything a service needs but the service itself. `start` begins the work, `close` ends it."""

    def __init__(self, settings: Settings, clock: Clock | None = None, models: Mapping[str, Model] | None = None) -> None:
        self.settings = settings
        self.clock = clock or SystemClock()
        settings.home.mkdir(parents=True, exist_ok=True)
        self.home = settings.home.resolve()
        self.database = Database(self.home / "metrikon.db")
        migrate(self.database)
        self.database.start()
        self.files = DiskFiles(self.home)
        made, default = models_of(settings)
        self.models: dict[str, Model] = {**made, **(models or {})}
        self.default_model = next(iter(models)) if models else default
        self.catalog = Catalog(self.database, self.clock, set(self.models))
        self.readers = ReaderPool(settings.readers, limits_of(settings))
        self.transcriber = transcriber_of(settings)
        self.passwords = Passwords(self.home)
        self.house = EngineHouse(
            self.files, self.readers, self.models, self.catalog, self.clock, self.default_model, self.transcriber, self.passwords.of
        )
        bench = Bench(self.database, self.house, self.home, self.price, lambda: self.engine.stopping)
        self.deliveries = Deliveries(self.database, self.catalog, self.clock, lambda said: build(said, self.home))
        self.engine = Engine(bench, self.deliveries, EngineSettings(workers=settings.workers))
        self.arrivals = Arrivals(
            self.database, self.files, self.clock, self.engine.wake, Opening(self.readers, self.files, settings.max_depth, self.passwords.of)
        )
        self.answers = Answers(self.database, self.house, self.engine)
        self._folders: dict[tuple[str, str], Folder] = {}
        self._stop = threading.Event()
        self._scanner = threading.Thread(target=self._scan, name="folders", daemon=True)

    def start(self) -> None:
        """Begin to work and to look at folders."""
        self.engine.start()
        self._scanner.start()

    def close(self) -> None:
        """Stop taking in, let running steps finish, let go of everything."""
        self._stop.set()
        if self._scanner.is_alive():
            self._scanner.join()
        self.engine.stop(self.settings.stop_seconds)
        self.readers.close()
        for model in self.models.values():
            close = getattr(model, "close", None)
            if close:
                close()
        if self.transcriber:
            self.transcriber.close()
        self.database.close()

    def price(self, model: str, usage: Usage) -> Decimal:
        """What a call cost, in the currency of the prices; the pattern reader costs nothing."""
        if model == "pattern":
            return Decimal(0)
        return (usage.input_tokens * self.settings.price_in + usage.output_tokens * self.settings.price_out) / 1_000_000

    def problems(self) -> list[dict[str, Any]]:
        """Files in watched folders that could not be taken, with the flow and the reason."""
        found = []
        for (flow, path), folder in self._folders.items():
            found += [{"flow": flow, "folder": path, "message": message} for message in list(folder.problems.values())]
        return found

    def _scan(self) -> None:
        while not self._stop.wait(SCAN):
            try:
                self._scan_once()
            except Exception:
                log.exception("watched folders could not be looked at")

    def _scan_once(self) -> None:
        with self.database.reading() as connection:
            running = [row for row in flows.all_flows(connection) if row["running"]]
        for row in running:
            try:
                flow = self.catalog.flow(row["name"], int(row["version"]))
            except BadFlow:
                continue  # kept by an older version of the program; the service says so when it is opened
            for intake in flow.intakes:
                if isinstance(intake, FolderIntake) and not self._stop.is_set():
                    self._scan_folder(flow.name, intake)

    def _scan_folder(self, flow: str, intake: FolderIntake) -> None:
        path = self.home / intake.path
        folder = self._folders.get((flow, str(path)))
        if folder is None:
            folder = self._folders[flow, str(path)] = Folder(path, intake.after == "move", intake.settled, self.settings.max_bytes)
        folder.move, folder.settled = intake.after == "move", intake.settled

        def take(identity: str, name: str, data: bytes) -> Callable[[], object]:
            if intake.opened and may_hold(data):
                arrived = self.arrivals.take_opened(flow, "folder", identity, name, data)
                return lambda: arrived
            return self.arrivals.begin(flow, "folder", identity, name, data).result

        try:
            folder.scan(time.monotonic(), take)
        except (NoFlow, StoreFailed, OSError) as error:
            log.error("folder %s of flow %s: %s", path, flow, error)
