"""Everything together, built from settings: database, engine, intakes, models."""

from __future__ import annotations

import dataclasses
import logging
import threading
import time
from collections.abc import Callable, Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import Connection

from metrikon.app.kinds import kinds
from metrikon.app.models import limits_on_spending, models_of
from metrikon.app.settings import Settings
from metrikon.core.flows.model import Said
from metrikon.core.flows.problems import BadFlow
from metrikon.drivers.reading import ReaderPool
from metrikon.engine.again import Again
from metrikon.engine.answers import Answers
from metrikon.engine.arrivals import Arrivals, NoFlow
from metrikon.engine.budget import Breaker, Budget
from metrikon.engine.calling import Switchboard
from metrikon.engine.carrying import Carrying
from metrikon.engine.catalog import Catalog
from metrikon.engine.delivering import Deliveries
from metrikon.engine.engine import Engine, EngineSettings
from metrikon.engine.estimating import Estimating
from metrikon.engine.keeping import Days, Keeping
from metrikon.engine.moving import Moving
from metrikon.engine.opening import Opening, may_hold
from metrikon.engine.questions import Questions
from metrikon.engine.samples import Samples
from metrikon.engine.trials import Trials
from metrikon.engine.trying import Trying
from metrikon.engine.turns import Turns
from metrikon.engine.work import Bench
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock, SystemClock
from metrikon.ports.destination import Destination
from metrikon.ports.intake import Looked, opened
from metrikon.ports.model import Model
from metrikon.ports.reader import Limits
from metrikon.ports.transcription import Transcriber
from metrikon.store import calls, deliveries, flows
from metrikon.store.database import Database, StoreFailed
from metrikon.store.files import DiskFiles
from metrikon.store.migrate import migrate
from metrikon.store.passwords import Passwords
from metrikon.transcription.http import HttpTranscriber, SpeechSettings
from metrikon.transcription.local import LocalTranscriber

log = logging.getLogger("metrikon.app")
FORGET = 3600.0  # seconds between looks at what is kept no longer
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


class App:
    """Everything a service needs but the service itself. `start` begins the work, `close` ends it."""

    def __init__(self, settings: Settings, clock: Clock | None = None, models: Mapping[str, Model] | None = None) -> None:
        self.settings = settings
        self.kinds = kinds()
        self.clock = clock or SystemClock()
        settings.home.mkdir(parents=True, exist_ok=True)
        self.home = settings.home.resolve()
        self.database = Database(self.home / "metrikon.db")
        migrate(self.database)
        self.database.start()
        self.files = DiskFiles(self.home)
        made = models_of(settings)
        self._models = made
        self.models: dict[str, Model] = {**made.by_name, **(models or {})}
        self.default_model = next(iter(models)) if models else made.default
        self.budget = Budget(limits_on_spending(settings), self.clock, self._spent, self._spent_in_run)
        turns = Turns(self.clock, lambda flow: self.catalog.limits(flow).calls_a_minute)
        self.board = Switchboard(self.models, made.specs, self.database, self.clock, self.budget, Breaker(self.clock, settings.model_rest), turns)
        self.catalog = Catalog(self.database, self.clock, self.kinds.language, frozenset(self.models), lambda: self.workshop.lists.heads())
        self.readers = ReaderPool(settings.readers, limits_of(settings))
        self.transcriber = transcriber_of(settings)
        self.passwords = Passwords(self.home)
        self.workshop = EngineWorkshop(
            *(self.files, self.readers, self.board, self.catalog, self.clock, self.default_model),
            *(self._places, self._destination, self.transcriber, self.passwords.of),
            fetch_private=settings.fetch_private,
            fetch_limits=(settings.fetches_a_minute, settings.fetches_at_once),
        )
        bench = Bench(self.database, self.workshop, self.kinds.runners, lambda: self.engine.stopping)
        self.deliveries = Deliveries(self.database, self.catalog, self.clock, self._destination)
        self.engine = Engine(bench, self.deliveries, EngineSettings(workers=settings.workers))
        self.arrivals = Arrivals(
            self.database, self.files, self.clock, self.engine.wake, Opening(self.readers, self.files, settings.max_depth, self.passwords.of)
        )
        self.estimating = Estimating(self.readers, self.catalog, self.board, self.default_model, self.workshop.transcriber is not None)
        self.answers = Answers(self.database, self.workshop, self.engine)
        self.again = Again(self.database, self.catalog, self.files, self.clock, self.answers, self.engine)
        self.samples = Samples(self.database, self.files, self.clock, settings.candidates)
        self.carrying = Carrying(self.database, self.catalog, self.files, self.workshop.lists, self.clock)
        days = Days(settings.keep_files_days, settings.keep_results_days, settings.keep_calls_days, settings.keep_journals_days)
        self.keeping = Keeping(self.database, self.workshop, self.files, self.clock, bench.states, days, settings.candidates)
        self.moving = Moving(self.database, self.catalog, self.clock, self.answers, self.engine)
        self.trying = Trying(self.database, self.workshop, self.kinds.runners)
        self.questions = Questions(self.database, self.catalog, self.clock, self.engine)
        self.trials = Trials(self.database, self.workshop, self.catalog, self.board, self.clock, self.default_model)
        self._looked: dict[tuple[str, Said], tuple[str, Looked]] = {}
        self._stop = threading.Event()
        self._scanner = threading.Thread(target=self._scan, name="folders", daemon=True)

    def start(self) -> None:
        """Begin to work and to look at folders."""
        self.database.write(self._named_from_home)
        self.engine.start()
        self._scanner.start()

    def _named_from_home(self, connection: Connection) -> None:
        for former, now in ((f"xlsx:{self.home}/", "xlsx:"), (f"sql:sqlite://{self.home}/", "sql:sqlite:")):
            deliveries.renamed(connection, former, now)

    def close(self) -> None:
        """Stop taking in, let running steps finish, let go of everything."""
        self._stop.set()
        if self._scanner.is_alive():
            self._scanner.join()
        self.trials.close()
        self.engine.stop(self.settings.stop_seconds)
        self.readers.close()
        self._models.close()
        if self.transcriber:
            self.transcriber.close()
        self.database.close()

    def _spent(self, since: int, flow: str | None) -> Decimal:
        with self.database.reading() as connection:
            return calls.spent_since(connection, since, flow)

    def _spent_in_run(self, run_id: str) -> Decimal:
        with self.database.reading() as connection:
            return calls.spent_in_run(connection, run_id)

    def _places(self, said: Said) -> tuple[str, str]:
        kind = self.kinds.destinations[said.kind]
        return kind.place(said.form, self.home), kind.former_place(said.form, self.home)

    def _destination(self, said: Said) -> Destination:
        return self.kinds.destinations[said.kind].build(said.form, self.home)

    def problems(self) -> list[dict[str, Any]]:
        """What intakes could not take, with the flow and the reason."""
        found = []
        for (flow, _), (place, looked) in list(self._looked.items()):  # a scan may add one meanwhile
            found += [{"flow": flow, "folder": place, "message": message} for message in list(looked.problems.values())]
        return found

    def _scan(self) -> None:
        forgot = -FORGET
        while not self._stop.wait(SCAN):
            try:
                self._scan_once()
                self.questions.remind()
                if time.monotonic() - forgot > FORGET:
                    self.keeping.carry_out()
                    forgot = time.monotonic()
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
            for said in flow.intakes:
                if not self._stop.is_set():
                    self._look(flow.name, said)

    def _look(self, flow: str, said: Said) -> None:
        """Look at an intake of a flow, if it is one that must be looked at."""
        kind = self.kinds.intakes[said.kind]
        if kind.build is None:
            return
        if (flow, said) not in self._looked:
            for other in [each for each in self._looked if each[0] == flow and self._looked[each][0] == kind.place(said.form, self.home)]:
                del self._looked[other]  # of an earlier version of the flow
            self._looked[flow, said] = (kind.place(said.form, self.home), kind.build(said.form, self.home, self.settings.max_bytes))
        place, looked = self._looked[flow, said]

        def take(identity: str, name: str, data: bytes) -> Callable[[], object]:
            if opened(said.form) and may_hold(data):
                arrived = self.arrivals.take_opened(flow, said.kind, identity, name, data)
                return lambda: arrived
            return self.arrivals.begin(flow, said.kind, identity, name, data).result

        try:
            looked.look(time.monotonic(), take)
        except (NoFlow, StoreFailed, OSError) as error:
            log.error("%s of flow %s: %s", place or said.kind, flow, error)
