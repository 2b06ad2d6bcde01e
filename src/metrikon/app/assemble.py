"""Everything together, built from settings: database, engine, intakes, models."""

from __future__ import annotations

import logging
import os
import socket
from collections.abc import Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import Connection

from metrikon.app.agreeing import Agreeing
from metrikon.app.beforehand import Beforehand
from metrikon.app.kinds import kinds
from metrikon.app.models import limits_on_spending, models_of
from metrikon.app.reading import limits_of, transcriber_of
from metrikon.app.settings import Settings, own_places
from metrikon.app.watching import Watching
from metrikon.connections.remains import end_remains
from metrikon.connections.sealing import Sealing, keys_of
from metrikon.core.flows.coming import Repeats
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import BadFlow, Problem
from metrikon.drivers.reading import ReaderPool
from metrikon.engine.addresses import Addresses
from metrikon.engine.again import Again
from metrikon.engine.answers import Answers
from metrikon.engine.arrivals import Arrivals
from metrikon.engine.background import Background
from metrikon.engine.budget import Breaker, Budget
from metrikon.engine.calling import Switchboard
from metrikon.engine.carrying import Carrying
from metrikon.engine.catalog import Catalog, Lists
from metrikon.engine.circles import Pace
from metrikon.engine.columns import ColumnsOf
from metrikon.engine.connecting import Connections
from metrikon.engine.correcting import CameOf, Correcting
from metrikon.engine.delivering import Deliveries
from metrikon.engine.describing import Describing
from metrikon.engine.ending import Ending
from metrikon.engine.engine import Engine, EngineSettings
from metrikon.engine.estimating import Estimating
from metrikon.engine.failing import FailuresKept
from metrikon.engine.foreseeing import Foreseeing
from metrikon.engine.forgetting import Forgetting
from metrikon.engine.judgingagain import JudgingAgain
from metrikon.engine.keeping import Days, Keeping
from metrikon.engine.level import Level
from metrikon.engine.moving import Moving
from metrikon.engine.movingaddresses import AddressesMoved
from metrikon.engine.opening import Opening
from metrikon.engine.outside import Outside
from metrikon.engine.places import Places
from metrikon.engine.questions import Questions
from metrikon.engine.samples import Samples
from metrikon.engine.showing import Showing
from metrikon.engine.taking import Taking
from metrikon.engine.taking_back import TakingBack
from metrikon.engine.therenow import LookingThere
from metrikon.engine.trials import Trials
from metrikon.engine.trying import Trying
from metrikon.engine.turns import Turns
from metrikon.engine.undoing import Undoing
from metrikon.engine.ways import Ways
from metrikon.engine.work import Bench
from metrikon.engine.workshop import EngineWorkshop
from metrikon.ports.clock import Clock, SystemClock
from metrikon.ports.destination import Destination, DestinationKind, Named, There, Unusable
from metrikon.ports.intake import Here, IntakeKind
from metrikon.ports.model import Model
from metrikon.ports.touching import Touched
from metrikon.readers.recording import UNHEARD
from metrikon.store import calls, deliveries, items
from metrikon.store.database import Database
from metrikon.store.deaths import KeptDeaths
from metrikon.store.files import DiskFiles
from metrikon.store.migrate import migrate
from metrikon.store.own import opened
from metrikon.store.passwords import Passwords
from metrikon.store.room import Room

log = logging.getLogger("metrikon.app")
APART = 2  # processes that open sheets and templates, so that these wait for no document that is read
PLACES = 1000  # milliseconds for which it is known whether a flow may run


class App:
    """Everything a service needs but the service itself. `start` begins the work, `close` ends it."""

    def __init__(self, settings: Settings, clock: Clock | None = None, models: Mapping[str, Model] | None = None) -> None:
        self.settings = settings
        self.listens_at = ""  # where that is chosen by the machine (port 0)
        self.kinds = kinds()
        self.clock = clock or SystemClock()
        self.home = opened(settings.home)
        self.database = Database(self.home / "metrikon.db")
        migrate(self.database)
        self.database.start()
        self.files = DiskFiles(self.home)
        self.files.elsewhere = self._body
        self.room = Room(self.home, settings.free_mb)
        made = models_of(settings)
        self._models = made
        self.models: dict[str, Model] = {**made.by_name, **(models or {})}
        self.default_model = next(iter(models)) if models else made.default
        self.budget = Budget(limits_on_spending(settings), self.clock, self._spent, self._spent_in_run)
        turns = Turns(self.clock, lambda flow: self.catalog.limits(flow).calls_a_minute)
        self._looked: dict[tuple[str, int], tuple[int, str]] = {}
        self.board = Switchboard(self.models, made.specs, self.database, self.clock, self.budget, Breaker(self.clock, settings.model_rest), turns)
        folders = [Path(each) for each in settings.folders.split(os.pathsep) if each.strip()]
        self.places = Places(self.database, self.clock, self.home, folders, settings.servers.split(","), self._touched, own_places(settings))
        heads: Lists = lambda: self.workshop.lists.heads()  # noqa: E731
        self.ways = Ways(
            self.database,
            self.clock,
            lambda: self.outside,
            private=settings.fetch_private,
            proxy=settings.fetch_proxy,
            trusted=settings.trusted_certificates,
        )
        self.catalog = Catalog(self.database, self.clock, self.kinds.language, frozenset(self.models), heads, self._told_of, self.ways)
        sealing = Sealing(keys_of(self.home, settings.secret_key))
        self.connections = Connections(
            *(self.database, self.files, self.catalog, sealing, self.clock),
            private=settings.fetch_private,
            given=settings.secret_key,
            trusted=settings.trusted_certificates,
        )
        self.describing = Describing(self.database)
        limits = (settings.fetches_a_minute, settings.fetches_at_once)
        self.outside = Outside(
            self.database,
            self.clock,
            self.connections,
            turns,
            private=settings.fetch_private,
            limits=limits,
            described=self.describing.described,
            seen=self.describing.seen,
            proxy=settings.fetch_proxy,
            trusted=settings.trusted_certificates,
        )
        moved = AddressesMoved(self.database, self.clock, sealing).carry_out()
        if moved:
            self.catalog.changed()
        self.deaths = KeptDeaths(self.database, self.clock)
        self.apart = ReaderPool(APART, limits_of(settings), self.deaths)
        self._there = There(self.home, self.outside, self.apart)
        self.looking_there = LookingThere(self.database, self.catalog, self._destination)
        self.columns = ColumnsOf(self._destination, self._columns_named, self.catalog.known, self.clock)
        self.beforehand = Beforehand(self.catalog, self.kinds, self.columns, self.home)
        self.readers = ReaderPool(settings.readers, limits_of(settings), self.deaths)
        self.transcriber = transcriber_of(settings)
        self.passwords = Passwords(self.home)
        self.workshop = EngineWorkshop(
            *(self.files, self.readers, self.board, self.catalog, self.clock, self.default_model),
            *(self._places, self._destination, self.transcriber, self.passwords.of),
            outside=self.outside,
            ways=self.ways,
            apart=self.apart,
            may_touch=self.places.path_problem,
        )
        bench = Bench(self.database, self.workshop, self.kinds.runners, lambda: self.engine.stopping, barred=self._barred, link=self.link)
        self.deliveries = Deliveries(self.database, self.catalog, self.clock, self._destination, Ending(bench.states))
        self.engine = Engine(bench, self.deliveries, EngineSettings(workers=settings.workers))
        self.arrivals = Arrivals(
            *(self.database, self.files, self.room, self.clock, self.engine.wake),
            Opening(self.readers, self.files, settings.max_depth, self.passwords.of),
            self._repeats,
        )
        self.showing = Showing(self.ways, self.clock, self.files.get)
        self.estimating = Estimating(self.readers, self.catalog, self.board, self.default_model, self.workshop.transcriber is not None)
        self.answers = Answers(self.database, self.workshop, self.engine)
        self.again = Again(self.database, self.catalog, self.files, self.clock, self.answers, self.engine)
        self.undoing = Undoing(self.database, self.catalog, self.clock, self.kinds.takers, self.workshop)
        came = CameOf(self.database, self.catalog, self._destination, self.undoing)
        self.correcting = Correcting(*(self.database, self.catalog, self.clock), *(self.answers, self.again, self.engine), came)
        self.taking_back = TakingBack(self.database, self.clock, came, self.deliveries)
        self.samples = Samples(self.database, self.files, self.clock, settings.candidates)
        self.carrying = Carrying(self.database, self.catalog, self.files, self.workshop.lists, self.clock)
        days = Days(settings.keep_files_days, settings.keep_results_days, settings.keep_calls_days, settings.keep_journals_days)
        self.keeping = Keeping(self.database, self.workshop, self.files, self.clock, bench.states, days, settings.candidates)
        self.forgetting = Forgetting(self.database, self.workshop, self.files, self.clock, bench.states, self.keeping)
        self.moving = Moving(self.database, self.catalog, self.clock, self.answers, self.engine)
        self.trying = Trying(self.database, self.workshop, self.kinds.runners)
        self.questions = Questions(self.database, self.catalog, self.clock, self.engine)
        self.background = Background()
        self.trials = Trials(self.database, self.workshop, self.catalog, self.board, self.clock, self.default_model, self.background)
        judging = JudgingAgain(self.workshop, self.board, self.estimating, self.clock, self.default_model)
        self.level = Level(self.database, self.catalog, self.clock, judging, self.background)
        self.taking = Taking(self.database, self.arrivals, self.clock, settings.max_bytes, Pace(self.clock, settings.items_an_hour))
        self.addresses = Addresses(self.database, self.catalog, self.taking, self.connections)
        foreseeing = Foreseeing(self.database, self.taking, self.estimating)
        self.agreeing = Agreeing(self.database, self.taking, foreseeing, self.clock, settings.ask_items, settings.ask_cost)
        here = Here(self.home, settings.max_bytes, self.outside, failures=FailuresKept(self.database), link=self.link, apart=self.apart)
        self.watching = Watching(
            *(self.database, self.catalog, self.taking, self.agreeing, self.room, self.places.problem, self.kinds, here),
            (self.questions.remind,),
            (self.keeping.carry_out,),
            look_first=settings.look_first,
        )

    @property
    def address(self) -> str:
        """Where people reach the service: as it is set, else where it listens; never what a request says."""
        settings = self.settings
        host = socket.gethostname() if settings.host in ("0.0.0.0", "::") else settings.host  # noqa: S104  (that is compared, and nothing is bound)
        return (settings.address or self.listens_at or f"http://{host}:{settings.port}").rstrip("/")

    def link(self, item_id: str) -> str:
        """The address of an item for people."""
        return f"{self.address}/arrivals/{item_id}"

    def start(self) -> None:
        """Begin to work and to look at intakes."""
        end_remains()
        if self.transcriber is not None:
            self.answers.continue_because(UNHEARD, "the service, which can hear now")
        self.engine.start(self._named_from_home)
        self.undoing.start()
        self.watching.start()

    def _named_from_home(self, connection: Connection) -> None:
        for former, now in ((f"xlsx:{self.home}/", "xlsx:"), (f"sql:sqlite://{self.home}/", "sql:sqlite:")):
            deliveries.renamed(connection, former, now)

    def close(self) -> None:
        """Stop taking in, let running steps finish, let go of everything."""
        self.watching.stop()
        self.background.close()
        self.undoing.stop()
        self.engine.stop(self.settings.stop_seconds)
        self.readers.close()
        self.apart.close()
        self._models.close()
        if self.transcriber:
            self.transcriber.close()
        self.columns.close()
        self.showing.close()
        self.outside.close()
        self.database.close()

    def _spent(self, since: int, flow: str | None) -> Decimal:
        with self.database.reading() as connection:
            return calls.spent_since(connection, since, flow)

    def _spent_in_run(self, run_id: str) -> Decimal:
        with self.database.reading() as connection:
            return calls.spent_in_run(connection, run_id)

    def _body(self, sha256: str) -> bytes | None:
        with self.database.reading() as connection:
            return items.body(connection, sha256)

    def _places(self, said: Said) -> tuple[str, str]:
        kind = self.kinds.destinations[said.kind]
        return kind.place(said.form, self._there), kind.former_place(said.form, self._there)

    def _barred(self, flow: str, version: int) -> str:
        """Why a version of a flow may not run: it touches a place that flows may not. Looked at anew every second."""
        key, now = (flow, version), self.clock.now()
        at, told = self._looked.get(key, (-PLACES, ""))
        if abs(now - at) >= PLACES:
            try:
                told = " ".join(each.message for each in self.places.problems(self.catalog.flow(flow, version)))
            except (KeyError, BadFlow):
                told = ""  # whoever runs it says so
            self._looked[key] = (now, told)
        return told

    def _repeats(self, flow: str, version: int, intake: str, about: Any) -> Repeats:
        """What becomes of content that came in before, as the intake of a flow says."""
        said = next((each for each in self.catalog.flow(flow, version).intakes if each.name == intake), None)
        kind = self.kinds.intakes.get(said.kind) if said is not None else None
        return kind.repeats(said.form, about) if said is not None and kind is not None else "hold"

    def _touched(self, said: Said) -> Touched | None:
        kinds: Mapping[str, IntakeKind | DestinationKind] = self.kinds.intakes if said.where[:1] == ("intakes",) else self.kinds.destinations
        kind = kinds.get(said.kind)
        return kind.touches(said.form, self.home) if kind is not None and isinstance(said.form, kind.parameters) else None

    def _columns_named(self, said: Said) -> Sequence[Named]:
        kind = self.kinds.destinations.get(said.kind)
        return kind.names(said.form) if kind is not None and isinstance(said.form, kind.parameters) else ()

    def _told_of(self, flow: Flow) -> list[Problem]:
        """What is wrong with a flow for where it reaches: places that it may not touch, columns that do not fit."""
        return [*self.places.problems(flow), *self.columns.problems(flow)]

    def _destination(self, said: Said) -> Destination:
        if problem := self.places.problem(said):
            raise Unusable(problem)
        return self.kinds.destinations[said.kind].build(said.form, self._there)
