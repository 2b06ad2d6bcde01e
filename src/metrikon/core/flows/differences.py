"""What changed between two versions of a flow, in sentences by step."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from metrikon.core.flows.form import plain
from metrikon.core.flows.model import Flow, Step
from metrikon.core.flows.words import shown

LONGEST = 80  # characters of a value that is told


def differences(before: Flow, after: Flow) -> list[str]:
    """Sentences: what was added, taken out, moved and changed; nothing where the two do the same."""
    return [*_head(before, after), *_steps(before, after)]


def same_steps(before: Flow, after: Flow) -> set[str]:
    """The names of steps that are the same in both, with all that they say; blocks within them aside."""
    one, two = _by_name(before), _by_name(after)
    return {name for name in one if name in two and _whole(one[name]) == _whole(two[name]) and one[name].kind.version == two[name].kind.version}


def _head(before: Flow, after: Flow) -> Iterator[str]:
    yield from _changed("The flow", plain(before.head), plain(after.head))
    for what, one, two in (
        ("intake", _said(enumerate(before.intakes, 1)), _said(enumerate(after.intakes, 1))),
        ("destination", _said(before.destinations.items()), _said(after.destinations.items())),
    ):
        for name in two.keys() - one.keys():
            yield f"The {what} {name} ({two[name]['kind']}) is new."
        for name in one.keys() - two.keys():
            yield f"The {what} {name} ({one[name]['kind']}) is gone."
        for name in sorted(one.keys() & two.keys()):
            yield from _changed(f"The {what} {name}", one[name], two[name])


def _said(named: Any) -> dict[str, dict[str, Any]]:
    return {str(name): {"kind": each.kind, **(plain(each.form) if each.form is not None else {})} for name, each in named}


def _steps(before: Flow, after: Flow) -> Iterator[str]:
    one, two = _by_name(before), _by_name(after)
    for name, step in two.items():
        if name not in one:
            yield f"The step {name} ({step.kind.name}) is new."
    for name, step in one.items():
        if name not in two:
            yield f"The step {name} ({step.kind.name}) is gone."
    stay_before, stay_after = [each for each in one if each in two], [each for each in two if each in one]
    for name in _moved(stay_before, stay_after):
        yield f"The step {name} stands elsewhere in the order."
    for name in stay_after:
        yield from _changed(f"The step {name}", _whole(one[name]), _whole(two[name]))


def _by_name(flow: Flow) -> dict[str, Step]:
    return {step.name: step for step in flow.every_step}


def _whole(step: Step) -> dict[str, Any]:
    common = {name: value for name, value in plain(step.common).items() if name != "name"}
    conditions = {"/".join(str(each) for each in where): text for where, text in step.conditions}
    return {"kind": step.kind.name, **common, **step.plain, **conditions}


def _moved(before: Sequence[str], after: Sequence[str]) -> Iterator[str]:
    """Names that are not in the longest run of names that kept their order."""
    place = {name: number for number, name in enumerate(before)}
    best: list[list[str]] = []
    for name in after:
        runs = [run for run in best if place[run[-1]] < place[name]]
        best.append([*_longest(runs), name])
    kept = set(_longest(best))
    yield from (name for name in after if name not in kept)


def _longest(runs: Sequence[list[str]]) -> list[str]:
    return max(runs, key=len) if runs else []


def _changed(what: str, before: Mapping[str, Any], after: Mapping[str, Any]) -> Iterator[str]:
    one, two = dict(_leaves(before)), dict(_leaves(after))
    for name in dict.fromkeys([*one, *two]):
        old, new = one.get(name), two.get(name)
        if old == new:
            continue
        if old is None:
            yield f"{what} has {name} {_short(new)} now."
        elif new is None:
            yield f"{what} has no {name} any more (it was {_short(old)})."
        else:
            yield f"{what} has {name} {_short(new)} instead of {_short(old)}."


def _leaves(value: Any, name: str = "") -> Iterator[tuple[str, Any]]:
    if isinstance(value, Mapping) and value:
        for key, each in value.items():
            yield from _leaves(each, f"{name}/{key}" if name else str(key))
    elif isinstance(value, list) and value and all(isinstance(each, Mapping) for each in value):
        for number, each in enumerate(value, 1):
            yield from _leaves(each, f"{name}/{number}")
    elif value not in (None, {}, []):
        yield name, value


def _short(value: Any) -> str:
    text = shown(value)
    return text if len(text) <= LONGEST else f"{text[: LONGEST - 1]}…"
