"""Reading YAML 1.2 within limits: its cost grows with the text, and a short text stands for no long one."""

from __future__ import annotations

from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.constructor import SafeConstructor
from ruamel.yaml.error import MarkedYAMLError
from ruamel.yaml.events import CollectionEndEvent, CollectionStartEvent
from ruamel.yaml.parser import Parser

MOST_EVENTS = 25_000  # values, beginnings and ends of lists and contexts
DEEPEST = 100  # lists and contexts within each other


class TooMuch(MarkedYAMLError):
    """The text holds more than is read; it says where that became plain."""


class _Limited(Parser):
    """Gives up as soon as there is too much."""

    def __init__(self, loader: Any) -> None:
        super().__init__(loader)
        self._count = self._depth = 0

    def get_event(self) -> Any:
        event = super().get_event()
        self._count += 1
        self._depth += isinstance(event, CollectionStartEvent) - isinstance(event, CollectionEndEvent)
        if self._depth > DEEPEST:
            raise TooMuch(problem=f"lists and contexts stand more than {DEEPEST} within each other", problem_mark=event.start_mark)
        if self._count > MOST_EVENTS:
            raise TooMuch(problem=f"it holds more than {MOST_EVENTS:,} values; part it", problem_mark=event.start_mark)
        return event


class Plain(SafeConstructor):
    """Makes plain data. A context takes nothing over from another one: that is no part of YAML 1.2."""

    def flatten_mapping(self, node: Any) -> Any:
        for key, _ in node.value:
            if key.value == "<<":
                raise TooMuch(problem="a context cannot take over another one with <<; write its entries out", problem_mark=key.start_mark)


def yaml_reader(constructor: type[SafeConstructor] = Plain) -> YAML:
    """What reads YAML 1.2 so."""
    made = YAML(typ="safe", pure=True)
    made.version = (1, 2)
    made.Parser = _Limited
    made.Constructor = constructor
    return made
