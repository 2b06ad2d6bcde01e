"""The flow document: where items come from, what is done with them, and where rows go."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal
from zoneinfo import ZoneInfo

from pydantic import Field

from metrikon.core.flows.form import NAME, Block, Condition, Duration, Form, OptionalBlock, Where, fields, plain, seconds_of
from metrikon.core.flows.kind import Kind
from metrikon.core.flows.settings import Setting, SettingName, values_of

Cause = Literal["busy", "slow", "unreachable", "machine"]
AWAY = ("busy", "slow", "unreachable")  # what is called is away, and comes back by itself
TRIES = 4  # of a step that fails for another cause: what four tries do not mend, waiting does not either
LEAST = 1.0  # seconds between tries where their number is not said
PATIENCE = 1800.0  # seconds: twice the quarter of an hour that a mail server or a model is away while it is updated


class Limits(Form):
    """What a flow may take at most, so that it holds up no other and no service is overrun; 0: no limit."""

    at_once: int = Field(0, ge=0, le=1000, description="Its runs that are worked on at once.")
    calls_a_minute: int = Field(0, ge=0, le=100_000, description="Calls of models and pages fetched, a minute; what is over waits for its turn.")


class Retry(Form):
    """How often and how patiently a step is tried again before its run is parked."""

    on: list[Cause] = Field(
        default_factory=list,
        description="Which failures are tried again: a service that is busy or says to come later, one that is slow, one that cannot be reached, an "
        "error of this machine; all of these when left out.",
    )

    attempts: int | None = Field(
        None,
        ge=1,
        le=100,
        description="Tries in all. Left out: as many as fit into half an hour where what is called is busy, slow or cannot be reached, and 4 for all else.",
    )
    wait: float = Field(2.0, ge=0, le=86400, description="Seconds before the second try; doubled each time, with jitter.")
    longest: float = Field(300.0, ge=0, le=86400, description="The longest wait, in seconds.")

    def tries(self, cause: str) -> int:
        """Tries in all after a failure of this cause; 0: as many as fit into `PATIENCE`."""
        if self.on and cause not in self.on:
            return 1
        return self.attempts or (0 if cause in AWAY else TRIES)

    def pause(self, cause: str, failures: int) -> float:
        """Seconds that are waited after so many failures, the last of this cause. One that is tried for a time and not so often is never asked without a pause."""
        least = 0.0 if self.tries(cause) else LEAST
        return min(max(self.longest, least), max(self.wait, least) * 2.0 ** min(failures - 1, 40))  # 2 ** 40 waits outlast any `longest`

    def over(self, cause: str, failures: int, since: float) -> bool:
        """Whether it is tried no more, after so many failures of a cause, the first of them so many seconds ago."""
        return exhausted(self.tries(cause), failures, since)


def exhausted(tries: int, failures: int, since: float) -> bool:
    """Whether it is tried no more. `tries`: in all, 0 for as many as fit into `PATIENCE`; `since`: seconds since the first of the failures."""
    return failures >= tries if tries else failures >= TRIES and since >= PATIENCE


class FlowFailure(Form):
    """What is done when a step of the flow has failed for good and nothing around it deals with that: once for each cause. Its steps see `failure`: step, path,
    message, attempts, link."""

    steps: Block = Field(..., description="Steps that are done then, such as a mail. They see the item, the run, the settings and `failure`.")
    then: Literal["park", "end"] = Field("park", description="What becomes of the run after them: it waits for a person, or ends.")


class Until(Form):
    """Its step is done again until a condition over what it gives holds, with waits that grow; nothing is held meanwhile."""

    holds: Condition = Field(
        ...,
        description='A FEEL condition over its result, by its name, such as transcript.answer.state = "ready"; one that comes out null does not hold yet.',
    )
    wait: float = Field(10.0, ge=0.1, le=86400, description="Seconds before it is done a second time; doubled each time, with jitter.")
    longest: float = Field(300.0, ge=0.1, le=86400, description="The longest wait, in seconds.")
    times: int = Field(100, ge=2, le=10_000, description="How often it is done at most; then it has failed. Its time is limited by `limit`.")

    def seconds(self, looks: int) -> float:
        """How long is waited after so many looks."""
        return min(self.longest, self.wait * 2.0 ** min(looks - 1, 40))  # 2 ** 40 waits outlast any `longest`


class OnFailure(Form):
    """What is done when a step has failed for good, or one within it. Its steps see `failure`: step, path, message, attempts, link."""

    steps: OptionalBlock = Field(default_factory=list, description="Steps that are done then; a `stop` among them ends the run.")
    then: Literal["park", "go on", "end"] = Field("park", description="What becomes of the run after them.")
    result: Any = Field(None, description="With `go on`: what the step is taken to have given.")


class Common(Form):
    """What every step may have."""

    name: str = Field(..., pattern=NAME, description="What its result is called in the steps after it.")
    about: str | None = Field(None, max_length=400, description="What it is for, in words for people.")
    when: Condition | None = Field(None, description="A FEEL condition; when it does not hold, the step is left out.")
    null_means: bool | None = Field(None, description="What a condition that comes out null counts as; unset parks the run.")
    retry: Retry = Field(default_factory=Retry, description="How often it is tried again.")
    limit: Duration | None = Field(
        None,
        description="How long it may take, calls of models and waiting for a moment, an event, a person, another flow, a row to be written included: "
        "seconds, or a duration such as PT4H or P3D. A call or a reading that is under way then is broken off, and the step has failed.",
    )
    until: Until | None = Field(None, description="It is done again until a condition holds: for steps that change nothing outside and ask no model.")
    on_failure: OnFailure | None = Field(None, description="What is done when it has failed for good.")

    @property
    def seconds(self) -> float | None:
        """The limit in seconds."""
        return seconds_of(self.limit) if self.limit is not None else None


class Head(Form):
    """What a flow says besides its intakes, destinations and steps."""

    metrikon: Literal[1] = Field(..., description="Version of this form of document.")
    name: str = Field(..., pattern=r"^[a-z][a-z0-9-]{0,59}$", description="What the flow is called.")
    about: str = Field("", max_length=1000, description="What it is for, in words for people.")
    zone: str = Field("UTC", max_length=60, description="The zone in which its times are told and its days begin, such as Europe/Vienna.")
    limits: Limits = Field(default_factory=Limits, description="What it may take at most.")
    settings: dict[SettingName, Setting] = Field(default_factory=dict, max_length=100, description="Values that a copy of the flow may change.")
    on_failure: FlowFailure | None = Field(None, description="What is done when a step has failed for good and nothing around it deals with that.")


@dataclass(frozen=True, eq=False)
class Step:
    """One step: what every step has, its kind, and the parameters of its kind."""

    common: Common
    kind: Kind
    parameters: Any  # a form of the kind
    where: Where = ()

    @cached_property
    def name(self) -> str:
        return self.common.name

    @cached_property
    def plain(self) -> dict[str, Any]:
        """The parameters as plain data, holes still in them."""
        return plain(self.parameters)

    @cached_property
    def blocks(self) -> list[tuple[Where, str, list[Step]]]:
        """The blocks of steps within it: place, name of the parameter, steps."""
        own = [((self.kind.name, *where), name, value) for where, _, name, value in fields(self.parameters, "steps") if value]
        failure = self.common.on_failure
        return [*own, *([(("on_failure", "steps"), "on_failure", failure.steps)] if failure and failure.steps else [])]

    @cached_property
    def conditions(self) -> list[tuple[Where, str]]:
        """The conditions in it, each with its place."""
        own = [((self.kind.name, *where), value) for where, _, _, value in fields(self.parameters, "condition") if value]
        until = [(("until", "holds"), self.common.until.holds)] if self.common.until is not None else []
        return [*([(("when",), self.common.when)] if self.common.when else []), *until, *own]


@dataclass(frozen=True, eq=False)
class Said:
    """What a flow says of an intake or a destination."""

    kind: str
    form: Any  # of the kind
    where: Where = ()

    @property
    def name(self) -> str:
        """Under what the items of an intake stand: its name, or else its kind."""
        return getattr(self.form, "name", None) or self.kind


@dataclass(frozen=True, eq=False)
class Flow:
    """A flow, as its author wrote it."""

    head: Head
    intakes: tuple[Said, ...]
    destinations: Mapping[str, Said]
    steps: tuple[Step, ...]
    names: Mapping[Where, str] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return self.head.name

    @property
    def about(self) -> str:
        return self.head.about

    @cached_property
    def every_step(self) -> tuple[Step, ...]:
        """Every step, those within others and those for its failures included, in the order of the text."""
        failure = self.head.on_failure
        return (*every_step(self.steps), *(every_step(failure.steps) if failure is not None else ()))

    @cached_property
    def leaves(self) -> bool:
        """Whether a step of it leaves something open that is closed when the run ends."""
        return any(each.kind.leaves for each in self.every_step)

    @cached_property
    def settings(self) -> dict[str, Any]:
        """The values of its settings, by name."""
        return values_of(self.head.settings)

    @cached_property
    def zone(self) -> ZoneInfo:
        """The zone of its times."""
        return ZoneInfo(self.head.zone)


def every_step(steps: tuple[Step, ...] | list[Step]) -> Iterator[Step]:
    """Every step, and those within them, in the order of the text."""
    for step in steps:
        yield step
        for _, _, block in step.blocks:
            yield from every_step(block)
