"""The steps of flows that mark by criteria, whatever their kind: what each asks for, and by which criteria."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from metrikon.core.flows.kind import Asks
from metrikon.core.flows.model import Flow
from metrikon.core.judging.criteria import Judge
from metrikon.core.values.near import meant
from metrikon.engine.catalog import Catalog
from metrikon.engine.refusing import NotThere


@dataclass(frozen=True)
class Marking:
    """A step that marks, in a version of its flow."""

    flow: str
    version: int
    step: str
    asks: Asks
    task: Judge


def all_of(catalog: Catalog, flow: str) -> list[Marking]:
    """The steps that mark in the newest version of a flow. Raises `NotThere`."""
    try:
        newest, version = catalog.newest_version(flow)
    except KeyError as error:
        raise NotThere(str(error.args[0])) from error
    return list(_in(newest, flow, version))


def newest(catalog: Catalog, flow: str, step: str = "") -> Marking:
    """One of them; without a name the only one. Raises `NotThere`."""
    found = {each.step: each for each in all_of(catalog, flow)}
    if not found:
        raise NotThere(f"The flow {flow} has no step that marks by criteria (judge).")
    if step in found or (not step and len(found) == 1):
        return found[step or next(iter(found))]
    known = f"Known: {', '.join(found)}."
    raise NotThere(
        f"The flow {flow} has no step {step!r} that marks{meant(step, found)} {known}" if step else f"Several steps mark; name one. {known}"
    )


def at(catalog: Catalog, flow: str, version: int, step: str) -> Marking:
    """A step in the version that it ran in. Raises `NotThere`."""
    found = next((each for each in _in(catalog.flow(flow, version), flow, version) if each.step == step), None)
    if found is None:
        raise NotThere(f"Version {version} of the flow {flow} has no step {step!r} that marks.")
    return found


def _in(flow: Flow, name: str, version: int) -> Iterator[Marking]:
    for step in flow.every_step:
        asks = step.kind.asks(step.parameters)
        if asks is not None and isinstance(asks.task, Judge):
            yield Marking(name, version, step.name, asks, asks.task)
