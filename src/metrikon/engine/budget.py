"""Limits enforced before a call: what it may cost at most is reserved, and put right once it is known."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal

from metrikon.models.specs import ModelSpec
from metrikon.ports.clock import Clock
from metrikon.ports.model import ModelDown, OverLimit

MINUTE = 60_000
DAY = 86_400_000
LONGEST_WAIT = 20.0  # seconds that a call waits for its turn; longer waits are handed to the engine
FAILURES = 5  # in a row: then a model rests
LONGEST_REST = 300_000  # milliseconds


@dataclass(frozen=True)
class SpendLimits:
    """What may be spent, in the currency of the prices; 0: no limit."""

    run: Decimal = Decimal(0)
    flow: Decimal = Decimal(0)  # a day
    day: Decimal = Decimal(0)


@dataclass(frozen=True)
class Reserved:
    """What a call may cost at most."""

    flow: str
    run_id: str
    model: str
    cost: Decimal
    tokens: int


class Budget:
    """Counts money by run, flow and day, and calls and tokens by minute; safe from several threads at once."""

    def __init__(
        self, limits: SpendLimits, clock: Clock, spent: Callable[[int, str | None], Decimal], spent_in_run: Callable[[str], Decimal]
    ) -> None:
        self.limits = limits
        self._clock = clock
        self._spent = spent  # since a time, of a flow or of all, as the records of calls say
        self._in_run = spent_in_run
        self._lock = threading.Lock()
        self._day = 0
        self._by_flow: dict[str | None, Decimal] = {}
        self._by_run: dict[str, Decimal] = {}
        self._recent: dict[str, deque[tuple[int, int]]] = {}

    def reserve(self, spec: ModelSpec, flow: str, run_id: str, input_tokens: int) -> Reserved:
        """Reserve what a call may take. Raises `OverLimit` when money would run out, `ModelDown` with a wait when it is too many a minute."""
        tokens = input_tokens + spec.answer_tokens
        cost = spec.price(input_tokens, spec.answer_tokens)
        with self._lock:
            self._refuse_over(cost, flow, run_id)
            self._wait_for_turn(spec, tokens)
            self._add(flow, run_id, cost)
            self._recent.setdefault(spec.name, deque()).append((self._clock.now(), tokens))
        return Reserved(flow, run_id, spec.name, cost, tokens)

    def settle(self, reserved: Reserved, cost: Decimal, tokens: int) -> None:
        """Put a reservation right: what the call did cost."""
        with self._lock:
            self._add(reserved.flow, reserved.run_id, cost - reserved.cost)
            recent = self._recent.get(reserved.model)
            if recent:
                for number in range(len(recent) - 1, -1, -1):
                    if recent[number][1] == reserved.tokens:
                        recent[number] = (recent[number][0], tokens)
                        break

    def spent_today(self, flow: str | None = None) -> Decimal:
        """What was spent or is reserved today, of a flow or of all."""
        with self._lock:
            return self._today(flow)

    def _today(self, flow: str | None) -> Decimal:
        day = self._clock.now() // DAY * DAY
        if day != self._day:
            self._day, self._by_flow, self._by_run = day, {}, {}
        if flow not in self._by_flow:
            self._by_flow[flow] = self._spent(day, flow)
        return self._by_flow[flow]

    def _refuse_over(self, cost: Decimal, flow: str, run_id: str) -> None:
        if not cost:
            return
        limits = self.limits
        if limits.run:
            before = self._by_run.setdefault(run_id, self._in_run(run_id)) if run_id not in self._by_run else self._by_run[run_id]
            _refuse(before, cost, limits.run, "this run", "spend_run")
        if limits.flow:
            _refuse(self._today(flow), cost, limits.flow, f"the flow {flow} today", "spend_flow")
        if limits.day:
            _refuse(self._today(None), cost, limits.day, "all flows today", "spend_day")

    def _wait_for_turn(self, spec: ModelSpec, tokens: int) -> None:
        if not spec.calls_a_minute and not spec.tokens_a_minute:
            return
        recent = self._recent.setdefault(spec.name, deque())
        now = self._clock.now()
        while recent and recent[0][0] <= now - MINUTE:
            recent.popleft()
        many = spec.calls_a_minute and len(recent) >= spec.calls_a_minute
        much = spec.tokens_a_minute and recent and sum(each[1] for each in recent) + tokens > spec.tokens_a_minute
        if many or much:
            wait = max(0.1, (recent[0][0] + MINUTE - now) / 1000)
            what = f"{spec.calls_a_minute} calls" if many else f"{spec.tokens_a_minute} tokens"
            raise ModelDown(f"The model {spec.name} has had its {what} of this minute.", wait, "turn")

    def _add(self, flow: str, run_id: str, cost: Decimal) -> None:
        if not cost:
            return
        for each in (flow, None):
            self._by_flow[each] = self._today(each) + cost
        if self.limits.run:
            before = self._by_run[run_id] if run_id in self._by_run else self._in_run(run_id)
            self._by_run[run_id] = before + cost


def _refuse(before: Decimal, cost: Decimal, limit: Decimal, what: str, setting: str) -> None:
    if before + cost > limit:
        raise OverLimit(
            f"The call may cost {cost.normalize():f}, and {before.normalize():f} were spent by {what}: together more than the limit of {limit:f} "
            f"(setting {setting}). Raise it or wait until it counts anew, then continue."
        )


class Breaker:
    """Rests a model, or what else is called, that failed several times in a row, longer each time; one call then tells whether it is back."""

    def __init__(self, clock: Clock, first_rest: float = 30.0, what: str = "model") -> None:
        self._clock, self._what = clock, what
        self._rest = int(first_rest * 1000)
        self._lock = threading.Lock()
        self._failures: dict[str, int] = {}
        self._until: dict[str, int] = {}
        self._trying: set[str] = set()

    def check(self, name: str) -> None:
        """Raises `ModelDown` while the model rests."""
        with self._lock:
            until = self._until.get(name, 0)
            now = self._clock.now()
            if until and (now < until or name in self._trying):
                wait = max(0.5, (until - now) / 1000)
                raise ModelDown(f"The {self._what} {name} failed {self._failures[name]} times in a row and is left alone for a while.", wait)
            if until:
                self._trying.add(name)

    def good(self, name: str) -> None:
        """It answered."""
        with self._lock:
            self._failures.pop(name, None)
            self._until.pop(name, None)
            self._trying.discard(name)

    def bad(self, name: str) -> None:
        """It did not."""
        with self._lock:
            count = self._failures[name] = self._failures.get(name, 0) + 1
            self._trying.discard(name)
            if count >= FAILURES:
                self._until[name] = self._clock.now() + min(LONGEST_REST, self._rest * 2 ** (count - FAILURES))

    def left(self, name: str) -> None:
        """The call that would have told was not made, or told nothing: the next one may."""
        with self._lock:
            self._trying.discard(name)

    def forget(self) -> None:
        """Try every model again at once: a person says that it is worth it."""
        with self._lock:
            self._until.clear()
            self._failures.clear()
            self._trying.clear()

    def resting(self) -> list[str]:
        """The models that are left alone now."""
        with self._lock:
            return [name for name, until in self._until.items() if until > self._clock.now()]
