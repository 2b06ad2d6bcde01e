"""A way in made by showing it once: what a person does on the screen is kept as verbs, and what is typed is matched with the values of a sample."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.scalarstring import DoubleQuotedScalarString as Quoted

from metrikon.core.feel.values import text_of


@dataclass
class Recording:
    """What was shown so far. `values`: those of the sample, by the names that the way in takes."""

    connection: str
    values: Mapping[str, Any]
    steps: list[dict[str, Any]] = field(default_factory=list)
    rows: dict[str, Any] | None = None  # that are being shown, for the first of a list
    look_up: dict[str, Any] | None = None  # how is seen whether it is there already
    looking: bool = False  # whether that is being shown

    def add(self, verb: str, said: Any) -> None:
        """Keep a step."""
        self._steps().append({verb: said})

    def undo(self) -> None:
        """Take the last step back. What was done on the screen stays."""
        steps = self._steps()
        if steps:
            steps.pop()
        elif self.rows is not None:
            self.rows = None
        elif self.looking:
            self.look_up, self.looking = None, False

    def _steps(self) -> list[dict[str, Any]]:
        kept: list[dict[str, Any]] = (
            self.rows["steps"] if self.rows is not None else self.look_up["steps"] if self.looking and self.look_up is not None else self.steps
        )
        return kept

    def begin_look_up(self) -> None:
        """What follows shows how is seen whether it is there already, anew where it was shown before. Raises ValueError within rows."""
        if self.rows is not None:
            raise ValueError("Rows are being shown: say first that they were a whole row.")
        self.look_up, self.looking = {"steps": [], "there": "", "none": ""}, True

    def mark(self, what: str, text: str) -> None:
        """A text that stands there when it is "there", or "none" is. Raises ValueError while nothing is looked for."""
        if not self.looking or self.look_up is None:
            raise ValueError("Show first how it is looked for.")
        self.look_up[what] = self.said(text) if what == "there" else text

    def end_look_up(self) -> None:
        """What follows enters it. Raises ValueError while it is not told what stands there when it is found."""
        if self.looking and self.look_up is not None and not (self.look_up["there"] and self.look_up["steps"]):
            raise ValueError("Point at the text that shows that it is there, such as its number in the list that was found, and say so.")
        self.looking = False

    def signing(self) -> dict[str, Any] | None:
        """How was signed in when it was entered; None where it was not."""
        return next((each["sign_in"] for each in self.steps if "sign_in" in each), None)

    def begin_rows(self, name: str) -> None:
        """What follows is done for each of a list. Raises ValueError for what is none."""
        if self.looking:
            raise ValueError("Looking goes through no rows. Say first that this was how it is looked for.")
        if self.rows is not None or not isinstance(self.values.get(name), list) or not self.values[name]:
            raise ValueError(f"{name} is no list with rows in the sample, or rows are being shown already.")
        self.rows = {"of": f"${{{name}}}", "each": "line", "steps": []}

    def end_rows(self) -> None:
        """What follows is done once."""
        if self.rows is not None and self.rows["steps"]:
            self.steps.append({"rows": self.rows})
        self.rows = None

    def said(self, text: str) -> str:
        """A text that was typed as a way in says it: the value of the sample that it is, where it is one."""
        for path, value in self._known():
            if (text_of(value) or "").strip() == text.strip() and text.strip():
                return f"${{{path}}}"
        return text

    def _known(self) -> Iterator[tuple[str, Any]]:
        """The values of the sample with their names; of a row that is being shown first."""
        if self.rows is not None:
            first = self.values[str(self.rows["of"])[2:-1]][0]
            yield from ((f"line.{name}", value) for name, value in _plain(first))
        for name, value in self.values.items():
            if isinstance(value, Mapping):
                yield from ((f"{name}.{inner}", each) for inner, each in _plain(value))
            elif not isinstance(value, list):
                yield name, value

    def text(self, name: str) -> str:
        """The way in as YAML, to be looked over and kept."""
        steps = [*self.steps, *([{"rows": self.rows}] if self.rows is not None and self.rows["steps"] else [])]
        told: dict[str, Any] = {"way": name, "about": "Shown once; to be looked over.", "connection": self.connection, "takes": list(self.values)}
        if self.look_up is not None and self.look_up["steps"]:
            told["look_up"] = {name: value for name, value in self.look_up.items() if value}
        told["enter"] = steps
        out = io.StringIO()
        yaml = YAML()
        yaml.width = 4000
        yaml.indent(mapping=2, sequence=4, offset=2)
        yaml.dump(_in_quotes(told), out)
        return out.getvalue()


def _plain(value: Any) -> Iterator[tuple[str, Any]]:
    if isinstance(value, Mapping):
        yield from ((str(name), each) for name, each in value.items() if not isinstance(each, Mapping | list))


def _in_quotes(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {name: _in_quotes(each) for name, each in value.items()}
    if isinstance(value, list):
        return [_in_quotes(each) for each in value]
    return Quoted(value) if isinstance(value, str) and "${" in value else value
