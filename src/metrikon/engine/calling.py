"""Calls of models for a step: answers kept before, limits, rests, fallbacks, and a record of every call."""

from __future__ import annotations

import hashlib
import math
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from metrikon.core.extraction.indexing.tokens import RESERVED, TYPICAL
from metrikon.core.values.exact import dumps, dumps_sorted
from metrikon.engine.budget import LONGEST_WAIT, Breaker, Budget
from metrikon.engine.turns import NoTurn, Turns
from metrikon.models.specs import ModelSpec
from metrikon.ports.clock import Clock
from metrikon.ports.model import Model, ModelAnswer, ModelDown, ModelRefused, ModelRequest, OverLimit, Usage
from metrikon.store import calls
from metrikon.store.database import Database

A_PICTURES_TOKEN = 4.0  # characters that stand for one token of a picture
LONGEST_ERROR = 500


@dataclass(frozen=True)
class Switchboard:
    """All models, with what holds for each."""

    models: Mapping[str, Model]
    specs: Mapping[str, ModelSpec]
    database: Database
    clock: Clock
    budget: Budget
    breaker: Breaker
    turns: Turns
    sleep: Callable[[float], None] = time.sleep

    def bound(self, name: str, flow: str, run_id: str, seconds: float | None = None, since: int = 0) -> Bound:
        """A model as one step of one run may use it, for so many seconds; answers kept before `since` are not given. Raises KeyError without such a model."""
        if name not in self.models:
            raise KeyError(f"There is no model {name!r}. Known: {', '.join(sorted(self.models))}.")
        return Bound(self, name, flow, run_id, math.inf if seconds is None else time.monotonic() + seconds, since)


class Bound:
    """A model bound to a run: it answers like one, and remembers what its calls came to until `keep`."""

    def __init__(self, board: Switchboard, name: str, flow: str, run_id: str, until: float = math.inf, since: int = 0) -> None:
        self.board = board
        self.until = until  # by the clock `time.monotonic`
        self.since = since  # answers that were kept before are not given (milliseconds since 1970)
        self.name = name
        self.room = board.models[name].room
        self.sees = board.models[name].sees
        self.flow = flow
        self.run_id = run_id
        self.recorded = False  # only answers that were given before are given
        self.rows: list[dict[str, Any]] = []
        self.rejected: list[str] = []

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """One answer: one kept before, or of the first model in order that gives one."""
        failed: ModelDown | None = None
        spec = self.board.specs.get(self.name)
        for name in (self.name, *(spec.fallback if spec else ())):
            try:
                return self._answer(name, request)
            except ModelDown as error:
                failed = failed or error
        assert failed is not None
        raise failed

    def reject(self, call: str) -> None:
        """An answer was no good: it is not given again."""
        for row in self.rows:
            if row["id"] == call:
                row["outcome"] = "rejected"
        self.rejected.append(call)

    def commit(self, connection: Connection) -> None:
        """Keep the records of the calls, in the transaction of the step."""
        calls.put(connection, self.rows)
        calls.reject(connection, self.rejected)  # nothing is let go of here: the transaction may have to be made again

    def keep(self) -> None:
        """The same in a transaction of its own, for a step that did not come to its end."""
        if self.rows or self.rejected:
            self.board.database.write(self.commit)
            self.rows, self.rejected = [], []

    def _answer(self, name: str, request: ModelRequest) -> ModelAnswer:
        model = self.board.models[name]
        request = replace(request, pictures=request.pictures[: model.sees], until=min(request.until, self.until))
        asked: dict[str, Any] = {"messages": list(request.messages), "schema": request.schema}
        if request.pictures:
            asked["pictures"] = [{"document": each.document, "page": each.page} for each in request.pictures]
        body = dumps_sorted(asked)
        key = hashlib.sha256(b"[%b,%b,%b]" % (dumps(name), dumps(_endpoint(self.board.specs.get(name))), body)).hexdigest()
        if not request.fresh:
            with self.board.database.reading() as connection:
                kept = calls.kept(connection, key, self.since)
            if kept is not None:
                self._note(name, request, key, None, "kept", Usage(), None)
                return ModelAnswer(str(kept[1]["text"]), Usage(), tokens=_tokens(kept[1]), kept=True, call=kept[0])
        if self.recorded:
            raise ModelRefused(f"The model {name} has not answered this before, and only recorded answers are used. Try again with the model itself.")
        return self._called(name, model, request, key, body)

    def _called(self, name: str, model: Model, request: ModelRequest, key: str, asked: bytes) -> ModelAnswer:
        board = self.board
        board.breaker.check(name)
        spec = board.specs.get(name) or ModelSpec(name=name, url="")
        try:
            self._in_turn()
            reserved = self._reserved(spec, request)
        except BaseException:
            board.breaker.left(name)
            raise
        start = board.clock.now()
        usage = Usage()
        try:
            answer = model.answer(request)
            usage = replace(answer.usage, cost=spec.price(answer.usage.input_tokens, answer.usage.output_tokens))
            board.breaker.good(name)
        except ModelDown as error:
            if time.monotonic() < self.until:
                board.breaker.bad(name)  # else it may have answered, had it been given the time
            usage = self._abandoned(spec, request, error, (board.clock.now() - start) / 1000)
            self._note(name, request, key, asked, "failed", usage, None, str(error))
            raise
        except ModelRefused as error:
            self._note(name, request, key, asked, "failed", Usage(calls=1, seconds=(board.clock.now() - start) / 1000), None, str(error))
            raise
        finally:
            board.breaker.left(name)
            board.budget.settle(reserved, usage.cost, usage.input_tokens + usage.output_tokens)
        call = self._note(name, request, key, asked, "good", usage, dumps({"text": answer.text, "tokens": answer.tokens}))
        return replace(answer, usage=usage, call=call)

    def _abandoned(self, spec: ModelSpec, request: ModelRequest, error: ModelDown, seconds: float) -> Usage:
        """What a call cost that gave nothing: one that was broken off was read by the model, and is paid."""
        if error.cause != "slow":
            return Usage(calls=1, seconds=seconds)
        tokens = int(_words(request) / TYPICAL) + len(request.pictures) * spec.picture_tokens
        return Usage(tokens, 0, 1, seconds, spec.price(tokens, 0))

    def _in_turn(self) -> None:
        try:
            self.board.turns.call(self.flow)
        except NoTurn as error:
            raise ModelDown(str(error), error.wait, "turn") from error

    def _reserved(self, spec: ModelSpec, request: ModelRequest) -> Any:
        tokens = int(_words(request) / RESERVED) + len(request.pictures) * spec.picture_tokens
        until = time.monotonic() + LONGEST_WAIT
        while True:
            try:
                return self.board.budget.reserve(spec, self.flow, self.run_id, tokens)
            except ModelDown as error:
                if error.wait is None or time.monotonic() + error.wait > until:
                    raise
                self.board.sleep(min(error.wait, 1.0))

    def _note(
        self,
        name: str,
        request: ModelRequest,
        key: str,
        asked: bytes | None,
        outcome: str,
        usage: Usage,
        answer: bytes | None,
        error: str | None = None,
    ) -> str:
        board = self.board
        row = {
            "id": board.clock.new_id(),
            "at": board.clock.now(),
            "model": name,
            "flow": self.flow,
            "run_id": self.run_id,
            "stage": request.stage,
            "request": key,
            "outcome": outcome,
            "prompt": calls.packed(asked) if asked is not None else None,
            "answer": calls.packed(answer) if answer is not None else None,
            "prompt_size": _words(request) + sized(board.specs.get(name), len(request.pictures)),
            "input_tokens": usage.input_tokens,
            "output_tokens": usage.output_tokens,
            "tries": usage.calls,
            "cost": f"{usage.cost.normalize():f}" if usage.cost else "0",
            "took": int(usage.seconds * 1000),
            "error": error[:LONGEST_ERROR] if error else None,
            "about": request.about or None,
        }
        self.rows.append(row)
        return str(row["id"])


def sized(spec: ModelSpec | None, pictures: int) -> int:
    """Characters of a prompt that take as many tokens as so many pictures, about: so both are counted in one measure."""
    return int(pictures * spec.picture_tokens * A_PICTURES_TOKEN) if spec and pictures else 0


def _words(request: ModelRequest) -> int:
    return sum(len(str(each.get("content", ""))) for each in request.messages)


def _endpoint(spec: ModelSpec | None) -> str:
    return f"{spec.url} {spec.model}" if spec else ""


def _tokens(kept: Mapping[str, Any]) -> tuple[tuple[int, float], ...]:
    return tuple((int(end), float(chance)) for end, chance in kept.get("tokens") or ())


__all__ = ["Bound", "OverLimit", "Switchboard"]
