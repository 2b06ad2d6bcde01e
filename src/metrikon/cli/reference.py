"""The reference pages, made from the code: `python -m metrikon.cli.reference FOLDER`."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterator
from pathlib import Path

from pydantic_core import PydanticUndefined

from metrikon.app.kinds import kinds
from metrikon.app.settings import PREFIX, table
from metrikon.cli import parser
from metrikon.core.feel.functions import FUNCTIONS, written
from metrikon.core.flows.form import Form
from metrikon.core.flows.model import Common, OnFailure, Retry
from metrikon.core.flows.schema import flow_schema


def pages() -> dict[str, str]:
    """Name and text of every page."""
    schema = flow_schema(kinds().language)
    return {
        "reference.md": "\n".join(_reference()) + "\n",
        "flow.schema.json": json.dumps(schema, indent=1, sort_keys=True) + "\n",
    }


def _reference() -> Iterator[str]:
    yield from ("# Reference", "", "Made from the code by `make docs`.", "", "## Commands", "")
    for path, found, text in _commands(parser(), (), ""):
        yield from (f"### metrikon {' '.join(path)}", "", str(found.description or text), "")
        for action in found._actions:
            if action.help and action.help != argparse.SUPPRESS and "-h" not in action.option_strings:
                name = ", ".join(action.option_strings) or str(action.metavar or action.dest).upper()
                yield f"- `{name}` {action.help}"
        yield ""
    yield from ("## Settings", "", "| setting | default | what it does |", "|---|---|---|")
    for name, default, text in table():
        yield f"| `{PREFIX}{name.upper()}` | {default or '(empty)'} | {text} |"
    known = kinds()
    yield from (
        "",
        "## Every step",
        "",
        *_parameters(Common),
        "",
        "### retry",
        "",
        *_parameters(Retry),
        "",
        "### on_failure",
        "",
        *_parameters(OnFailure),
    )
    yield from ("", "## Kinds of step", "")
    for kind in known.steps.values():
        yield from (f"### {kind.name}", "", kind.about, "", *_parameters(kind.parameters), "")
    yield from ("## Intakes", "")
    for intake in known.intakes.values():
        yield from (f"### {intake.name}", "", str(intake.parameters.__doc__), "", *_parameters(intake.parameters), "")
    yield from ("## Destinations", "")
    for destination in known.destinations.values():
        yield from (f"### {destination.name}", "", str(destination.parameters.__doc__), "", *_parameters(destination.parameters), "")
    yield from ("## Functions of FEEL", "", "What differs from the standard is in [feel.md](feel.md).", "")
    yield from (f"- `{way}`" for name in sorted(FUNCTIONS) for way in written(name).splitlines())


def _parameters(form: type[Form]) -> Iterator[str]:
    for name, field in form.model_fields.items():
        shown = field.alias or name
        default = field.default
        need = "required" if field.is_required() else f"default `{default}`" if default not in (None, PydanticUndefined) else "optional"
        yield f"- `{shown}` ({need}) {field.description or ''}".rstrip()


def _commands(found: argparse.ArgumentParser, path: tuple[str, ...], text: str) -> Iterator[tuple[tuple[str, ...], argparse.ArgumentParser, str]]:
    inner = [action for action in found._actions if isinstance(action, argparse._SubParsersAction)]
    if not inner:
        yield path, found, f"{text[:1].upper()}{text[1:]}."
    for action in inner:
        said = {each.dest: each.help or "" for each in action._choices_actions}
        for name, below in action.choices.items():
            yield from _commands(below, (*path, name), said.get(name, ""))


if __name__ == "__main__":
    for page, text in pages().items():
        (Path(sys.argv[1]) / page).write_text(text, "utf-8")
