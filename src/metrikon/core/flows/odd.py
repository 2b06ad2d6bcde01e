"""Texts that are most likely meant otherwise: holes without their sign, and operators outside of a hole."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

_NO_SIGN = re.compile(r"\{\{?\s*([A-Za-z_][\w]*(?:\.[\w]+)+)\s*\}?\}")
_OUTSIDE = re.compile(r"^\$\{([^{}]*)\}\s*([*/+])\s*([\d.,]+)\s*$")


def odd_texts(values: Any, place: str = "") -> Iterator[tuple[str, str]]:
    """Each such text in parameters: its place, such as `columns/Amount`, and what to write instead."""
    if isinstance(values, dict):
        for name, value in values.items():
            yield from odd_texts(value, f"{place}/{name}" if place else str(name))
    elif isinstance(values, list):
        for number, value in enumerate(values):
            yield from odd_texts(value, f"{place}/{number}" if place else str(number))
    elif isinstance(values, str):
        yield from ((place, message) for message in _odd(values))


def _odd(text: str) -> Iterator[str]:
    bare = _NO_SIGN.search(text)
    if bare is not None and not text[: bare.start()].endswith("$") and "${" not in text:
        yield f"{bare.group()} is text as it stands there. To put in what it names, write ${{{bare[1]}}}."
    outside = _OUTSIDE.match(text.strip())
    if outside is not None:
        inner, sign, number = outside.groups()
        yield f"What stands outside of ${{…}} is text. To work it out, write all of it within: ${{{inner} {sign} {number.replace(',', '.')}}}."
