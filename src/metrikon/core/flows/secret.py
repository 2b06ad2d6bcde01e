"""Secrets that were pasted into a flow: flows are kept in versions, compared and carried, and secrets must not be."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from metrikon.core.flows.form import Form, Where, plain
from metrikon.core.flows.model import Flow
from metrikon.core.flows.problems import Problem

MASK = "•••"
_PATTERNS = (
    (re.compile(r"[a-z][a-z0-9+.-]*://[^\s/@:]+:(?P<found>[^\s/@]+)@", re.I), "a password in an address"),
    (re.compile(r"\b(?:api[_-]?key|token|secret|password|passwd)\b\s*[=:]\s*[\"']?(?P<found>[^\s\"'${}]{6,})", re.I), "a key or a password"),
    (re.compile(r"\bbearer\s+(?P<found>[A-Za-z0-9._~+/-]{16,})", re.I), "a token"),
    (re.compile(r"\b(?P<found>(?:[a-z]{2,6}[-_])(?=[A-Za-z0-9_-]*\d)(?=[A-Za-z0-9_-]*[A-Z])[A-Za-z0-9_-]{20,})\b"), "a key"),
    (re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY-----(?P<found>)"), "a private key"),
)


def secrets_in(flow: Flow) -> Iterator[Problem]:
    """A problem for each place of a flow that holds what looks like a secret."""
    for step in flow.every_step:
        for where, what in _found(step.plain, (step.kind.name,)):
            yield Problem(step.name, "/".join(str(each) for each in where), _told(what), (*step.where, *where))
    for name, setting in flow.head.settings.items():
        for where, what in _found(setting.value, ("settings", name, "value")):
            yield Problem("", "/".join(str(each) for each in where), _told(what), where)
    for said in (*flow.intakes, *flow.destinations.values()):
        if isinstance(said.form, Form):
            for where, what in _found(plain(said.form), ()):
                place = (*said.where, *where)
                yield Problem("", "/".join(str(each) for each in place), _told(what), place)


def _told(what: str) -> str:
    return f"It looks like {what}. A flow is kept in versions and may be carried elsewhere: take it out, and keep it in the settings."


def _found(value: Any, where: Where) -> Iterator[tuple[Where, str]]:
    if isinstance(value, str):
        what = next((told for pattern, told in _PATTERNS if pattern.search(value)), None)
        if what is not None:
            yield where, what
    elif isinstance(value, Mapping):
        for name, each in value.items():
            yield from _found(each, (*where, str(name)))
    elif isinstance(value, list):
        for number, each in enumerate(value):
            yield from _found(each, (*where, number))


def masked(text: str) -> str:
    """A text without the passwords of addresses in it."""
    return _PATTERNS[0][0].sub(lambda found: found.group().replace(f":{found['found']}@", f":{MASK}@"), text)
