"""A way in with its values: a flat list of what is done, worked out before anything is opened, so that what has no value is told before the first key is pressed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from metrikon.core.entering.way import MOST_ROWS, Do, Place, SignIn, WayIn
from metrikon.core.feel.values import text_of
from metrikon.core.values.text import clean

Filled = Callable[[Any, Mapping[str, Any]], Any]  # a value with its holes, and names that are known besides


class NoPlan(ValueError):
    """Values that do not fill a way in; the message says which."""


@dataclass(frozen=True)
class Action:
    """One thing that is done. `text`: what is typed, chosen, opened, waited for; `told`: it in a few words; `last`: it enters for good."""

    verb: str
    told: str
    place: Place | None = None
    text: str = ""
    otherwise: str = ""
    last: bool = False
    file: str = ""  # its hash
    sign_in: SignIn | None = None


@dataclass(frozen=True)
class Plan:
    """What is done to look, and to enter. `there`, `none`: texts that tell whether it is there already; empty without a way to look."""

    look: tuple[Action, ...]
    there: str
    none: str
    enter: tuple[Action, ...]


def planned(way: WayIn, values: Mapping[str, Any], filled: Filled) -> Plan:
    """The plan for some values. Raises `NoPlan` naming everything that has no value."""
    missing: dict[str, None] = {}
    scope = {name: values.get(name) for name in way.takes}
    unknown = sorted(set(values) - set(way.takes))
    if unknown:
        raise NoPlan(f"The way in takes no {', '.join(unknown)}. It takes {', '.join(way.takes)}.")
    looking = way.look_up
    look = _actions(looking.steps, scope, filled, missing) if looking is not None else []
    there = _text(looking.there, scope, filled, missing) if looking is not None else ""
    enter = _actions(way.enter, scope, filled, missing)
    if missing:
        raise NoPlan(
            f"{', '.join(missing)} {'has' if len(missing) == 1 else 'have'} no value, and nothing was entered. Correct the record or the flow, then continue."
        )
    return Plan(tuple(look), there, looking.none if looking is not None else "", tuple(enter))


def _actions(steps: Sequence[Do], scope: Mapping[str, Any], filled: Filled, missing: dict[str, None]) -> list[Action]:
    made: list[Action] = []
    for step in steps:
        if step.rows is not None:
            rows = filled(step.rows.of, scope)
            if rows is None:
                missing[step.rows.of] = None
                continue
            if not isinstance(rows, list):
                raise NoPlan(f"{step.rows.of} is no list. Correct the flow, then continue.")
            if len(rows) > MOST_ROWS:
                raise NoPlan(f"There are {len(rows)} rows; at most {MOST_ROWS} are entered on a screen.")
            for row in rows:
                made += _actions(step.rows.steps, {**scope, step.rows.each: row}, filled, missing)
            continue
        made.append(_action(step, scope, filled, missing)) if step.read_back is None else made.extend(
            _read_back(step.read_back, scope, filled, missing)
        )
    return made


def _action(step: Do, scope: Mapping[str, Any], filled: Filled, missing: dict[str, None]) -> Action:
    if step.open is not None:
        return Action("open", f"Open {step.open or 'the program'}", text=_text(step.open, scope, filled, missing))
    if step.sign_in is not None:
        return Action("sign_in", "Sign in", sign_in=step.sign_in)
    if step.expect is not None:
        text = _text(step.expect, scope, filled, missing)
        return Action("expect", f"Wait for “{text}”", text=text)
    if step.fill is not None:
        text = _text(step.fill.value, scope, filled, missing)
        return Action("fill", f"Type {text!r} into {step.fill.place.told}", step.fill.place, text)
    if step.choose is not None:
        text = _text(step.choose.option, scope, filled, missing)
        return Action("choose", f"Choose {text!r} in {step.choose.place.told}", step.choose.place, text, step.choose.otherwise)
    if step.attach is not None:
        name = _text(step.attach.name, scope, filled, missing)
        return Action(
            "attach",
            f"Give the file {name!r} to {step.attach.place.told}",
            step.attach.place,
            name,
            file=_text(step.attach.file, scope, filled, missing),
        )
    assert step.press is not None
    return Action("press", f"Press {step.press.place.told}", step.press.place, last=step.press.last)


def _read_back(wanted: Mapping[str, Any], scope: Mapping[str, Any], filled: Filled, missing: dict[str, None]) -> list[Action]:
    made = []
    for label, value in wanted.items():
        text = _text(value, scope, filled, missing)
        made.append(Action("read_back", f"See whether “{label}” shows {text!r}", Place(label=label), text))
    return made


def _text(value: Any, scope: Mapping[str, Any], filled: Filled, missing: dict[str, None]) -> str:
    found = filled(value, scope)
    if found is None:
        missing[str(value)] = None
        return ""
    return clean(text_of(found) or "")
