"""The reference pages, made from the code: `python -m metrikon.cli.reference FOLDER`."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path

from metrikon.app.kinds import kinds
from metrikon.app.settings import PREFIX, table
from metrikon.cli import parser
from metrikon.cli.shapes import gives, parameters
from metrikon.core.feel.functions import FUNCTIONS, written
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
    for path, found, text in commands_of(parser(), (), ""):
        yield from (f"### metrikon {' '.join(path)}", "", str(found.description or text), "")
        for action in found._actions:
            if action.help != argparse.SUPPRESS and "-h" not in action.option_strings:
                yield f"- `{_shown(action)}` {action.help}"
        yield ""
    yield from ("## Settings", "", "| setting | default | what it does |", "|---|---|---|")
    for name, default, text in table():
        yield f"| `{PREFIX}{name.upper()}` | {default or '(empty)'} | {text} |"
    known = kinds()
    yield from (
        "",
        "## Every step",
        "",
        *parameters(Common),
        "",
        "### retry",
        "",
        *parameters(Retry),
        "",
        "### on_failure",
        "",
        *parameters(OnFailure),
    )
    yield from ("", "## Kinds of step", "")
    for kind in known.steps.values():
        yield from (f"### {kind.name}", "", kind.about, "", *parameters(kind.parameters), "")
        if kind.sample:
            yield from ("```yaml", "- name: sample", *(f"  {line}" for line in kind.sample.splitlines()), "```", "")
            told = list(gives(kind, known))
            yield from (("It gives:", "", *told, "") if told else ())
    yield from ("## Intakes", "")
    for intake in known.intakes.values():
        yield from (f"### {intake.name}", "", str(intake.parameters.__doc__), "", *parameters(intake.parameters), "")
        told = [f"- `{name}` {what}" for name, what in intake.gives.items()] if isinstance(intake.gives, Mapping) else [intake.gives]
        yield from ("`item.data`:", "", *told, "") if any(told) else ()
    yield from ("## Destinations", "")
    for destination in known.destinations.values():
        yield from (f"### {destination.name}", "", str(destination.parameters.__doc__), "", *parameters(destination.parameters), "")
    yield from ("## Functions of FEEL", "", "What differs from the standard is in [feel.md](feel.md).", "")
    yield from (f"- `{way}`" for name in sorted(FUNCTIONS) for way in written(name).splitlines())


def _shown(action: argparse.Action) -> str:
    """An option with what is put behind it, or an argument by its name."""
    behind = action.metavar or (action.dest.upper() if action.nargs != 0 and not action.choices else "")
    if action.choices:
        behind = "|".join(map(str, action.choices))
    return f"{', '.join(action.option_strings)} {behind}".strip() if action.option_strings else str(behind).upper()


def commands_of(found: argparse.ArgumentParser, path: tuple[str, ...], text: str) -> Iterator[tuple[tuple[str, ...], argparse.ArgumentParser, str]]:
    """Every command beneath a part of the command line: its words, its parser, and what it does."""
    inner = [action for action in found._actions if isinstance(action, argparse._SubParsersAction)]
    if not inner:
        yield path, found, f"{text[:1].upper()}{text[1:]}."
    for action in inner:
        said = {each.dest: each.help or "" for each in action._choices_actions}
        for name, below in action.choices.items():
            yield from commands_of(below, (*path, name), said.get(name, ""))


if __name__ == "__main__":
    for page, text in pages().items():
        (Path(sys.argv[1]) / page).write_text(text, "utf-8")
