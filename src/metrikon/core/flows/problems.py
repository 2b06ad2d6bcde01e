"""What is wrong with a flow: at which step, at which place, and what to do."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from unicodedata import combining, normalize

from metrikon.core.flows.form import Where
from metrikon.core.values.near import meant


@dataclass(frozen=True)
class Problem:
    """One thing that is wrong. `place`: within the step, or within the flow where no step is named; `where`: the same from the root."""

    step: str
    place: str
    message: str
    where: Where = ()
    line: int = 0  # in the text, from 1; 0 where there is none
    column: int = 0

    def as_json(self) -> dict[str, Any]:
        return {"step": self.step, "place": self.place, "message": self.message, "line": self.line, "column": self.column}

    def __str__(self) -> str:
        where = f"step {self.step}, {self.place}".rstrip(", ") if self.step else self.place or "the flow"
        return f"{where}: {self.message}"


class BadFlow(ValueError):
    """A flow that cannot be kept; `problems` lists everything that was found."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("\n".join(str(problem) for problem in problems))
        self.problems = problems


def in_our_words(error: Mapping[str, Any], known: list[str], about: str = "") -> str:
    """An error of the form checker as a message for people. `known`: the names of parameters at that place; `about`: what the one is for that is meant."""
    kind, context = str(error["type"]), error.get("ctx") or {}
    if kind == "extra_forbidden":
        name = str(error["loc"][-1])
        if advice := foreign(name):
            return f"{name!r} is not known here. {advice}"
        return f"{name!r} is not known here{meant(name, known)} Known: {', '.join(known) or 'nothing'}. Remove it or correct its spelling."
    if kind == "model_type" and known:
        return f"It is {_shown(error.get('input'))}; give its parameters by name: {', '.join(known)}."
    if kind == "missing" and about:
        return f"It is missing; add it. {about}"
    if kind == "string_pattern_mismatch" and (better := as_name(str(error.get("input", "")), str(context.get("pattern", "")))):
        return f"{_shown(error.get('input'))} is no name: small letters, figures and {'hyphens' if '-' in better[1] else 'underscores'}, a letter first, such as {better[0]!r}."
    told = _WORDS.get(kind)
    context = {name: f"{value:g}" if isinstance(value, float) else value for name, value in context.items()}
    return told.format(**context, given=_shown(error.get("input"))) if told else f"{error['msg']}."


_FOREIGN = {
    "A server is reached by a connection, which keeps its address and the password: make one with `metrikon connections put NAME ADDRESS`, then say `connection: NAME`.": (
        *(
            "server",
            "host",
            "user",
            "username",
            "login",
            "password",
            "pass",
            "passwort",
            "benutzer",
            "port",
            "ssl",
            "tls",
            "imap",
            "smtp",
            "token",
            "secret",
        ),
        *("api_key", "apikey", "auth"),
    ),
}


def foreign(name: str) -> str:
    """What to do instead of a parameter that other programs have; empty for one that is only misspelt."""
    if name.isdecimal():
        return "If a decimal comma is meant, write a point, such as 0.8."
    return next((told for told, names in _FOREIGN.items() if name.casefold() in names), "")


def as_name(given: str, pattern: str) -> tuple[str, str] | None:
    """A name made from what was given, and the sign that joins its words; None where the pattern is that of no name."""
    if not pattern.startswith("^[a-z][a-z0-9"):
        return None
    joint = "-" if "-]" in pattern else "_"
    plain = "".join(sign for sign in normalize("NFKD", given.casefold().replace("ß", "ss")) if not combining(sign))
    made = re.sub(r"[^a-z0-9]+", joint, plain).strip(joint)
    made = made if made[:1].isalpha() else f"a{joint}{made}".strip(joint)
    return made[:40], joint


_WORDS = {
    "missing": "It is missing; add it.",
    "duration": "It is {given}; give seconds, or a duration such as PT30M, PT4H or P3D, of at most ten years.",
    "string_type": "It is {given}; give a text (in quotation marks).",
    "string_too_short": "It is empty; give at least {min_length} character(s).",
    "string_too_long": "It is too long; at most {max_length} characters are taken.",
    "string_pattern_mismatch": "{given} does not fit the pattern {pattern}: use small letters, figures and underscores or hyphens, a letter first.",
    "int_type": "It is {given}; give a whole number.",
    "int_parsing": "It is {given}; give a whole number.",
    "int_from_float": "It is {given}; give a whole number.",
    "float_type": "It is {given}; give a number.",
    "float_parsing": "It is {given}; give a number.",
    "decimal_type": "It is {given}; give a number.",
    "decimal_parsing": "It is {given}; give a number.",
    "bool_type": "It is {given}; give true or false.",
    "bool_parsing": "It is {given}; give true or false.",
    "literal_error": "It is {given}; give {expected}.",
    "greater_than": "It is {given}; give more than {gt}.",
    "greater_than_equal": "It is {given}; give {ge} or more.",
    "less_than_equal": "It is {given}; give {le} or less.",
    "list_type": "It is {given}; give a list.",
    "dict_type": "It is {given}; give names with values.",
    "value_error": "{error}",
    "model_type": "It is {given}; give its parameters by name.",
    "too_short": "It is empty; give at least {min_length} of them.",
    "too_long": "There are too many; at most {max_length} are taken.",
}


def _shown(value: Any) -> str:
    if value is None:
        return "empty"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict | list):
        return "a list" if isinstance(value, list) else "a set of names with values"
    text = str(value)
    return repr(text if len(text) <= 60 else f"{text[:57]}…") if isinstance(value, str) else text
