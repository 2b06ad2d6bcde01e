"""What is wrong with what a flow says of its intakes and destinations: names, conditions, connections."""

from __future__ import annotations

import re
from collections.abc import Iterator

from metrikon.core.feel import BadExpression, names, parse
from metrikon.core.feel.holes import expressions
from metrikon.core.feel.syntax import Literal
from metrikon.core.flows.form import Form, Where, fields
from metrikon.core.flows.kind import Known
from metrikon.core.flows.model import Flow, Said
from metrikon.core.flows.problems import Problem
from metrikon.core.values.near import meant

_DRIVE = re.compile(r"^[A-Za-z]:[\\\\/]")
KNOWN_OF = ("name", "size", "at", "data")  # of a thing that came


def wrong_with(flow: Flow, known: Known) -> Iterator[Problem]:
    """Everything that is wrong with them as far as it can be told."""
    seen: set[str] = set()
    for said in flow.intakes:
        if said.name in seen:
            yield _problem(said, ("name",), f"Another intake stands under {said.name!r} already. Give this one a `name` of its own.")
        seen.add(said.name)
    for said in (*flow.intakes, *flow.destinations.values()):
        if not isinstance(said.form, Form):
            continue
        path = getattr(said.form, "path", None)
        if isinstance(path, str) and getattr(said.form, "connection", None) is None and (told := odd_path(path)):
            yield _problem(said, ("path",), told)
        for where, form, name, condition in fields(said.form, "condition"):
            if condition:
                yield from (_problem(said, where, told) for told in _condition(condition, form.conditions_see.get(name, ("item",))))
        yield from (_problem(said, ("item_name",), told) for told in _holes(getattr(said.form, "item_name", None)))
        for where, _, _, name in fields(said.form, "connection"):
            if name and name not in known.connections and known.whole:
                told = ", ".join(sorted(known.connections)) or "none"
                yield _problem(said, where, f"There is no connection {name!r}{meant(name, sorted(known.connections))} Known: {told}.")


def _holes(text: str | None) -> Iterator[str]:
    """What is wrong with the holes of a text that sees what came."""
    try:
        for _, expression in expressions(text):
            yield from _condition(expression, ("item",))
    except BadExpression as error:
        yield str(error)


def odd_path(path: str) -> str:
    """What is odd about a path as people write it elsewhere; empty for one that is right."""
    if path.startswith("~"):
        return f"{path!r} would be a folder of this very name: ~ stands for no home here. Write the whole path, such as /home/anna{path[1:] or '/scans'}."
    if _DRIVE.match(path) or (chr(92) in path and "/" not in path):
        return f"{path!r} is a path of another system. Write it as it is called where the service runs, with /, such as /srv/scans."
    return ""


def _condition(text: str, sees: tuple[str, ...]) -> Iterator[str]:
    try:
        tree = parse(text)
    except BadExpression as error:
        yield str(error)
        return
    for path in names(tree):
        if path[0] not in sees:
            yield f"{path[0]!r} is not known here. Known: {', '.join(sees)}."
        elif path[0] == "item" and len(path) > 1 and path[1] not in KNOWN_OF:
            yield f"{path[1]!r} is not known of what comes. Known: {', '.join(f'item.{each}' for each in KNOWN_OF)}."
    if isinstance(tree, Literal) and tree.value is False:
        yield "It can never hold: everything would be let go."


def _problem(said: Said, where: Where, message: str) -> Problem:
    return Problem("", "/".join(str(each) for each in (*said.where, *where)), message, (*said.where, *where))
