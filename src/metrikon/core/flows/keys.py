"""Delivery keys: what tells a row from all others, exactly, as a hash that is short and tells nothing.

Rows that an earlier version has written carry keys by its rule: the place, then the parts without their case, cut at 500
characters. They are recognised, unless the row beside such a key shows that it was another's.
"""

from __future__ import annotations

import hashlib
import unicodedata
from collections.abc import Iterable, Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.values.exact import dumps, dumps_sorted

MARK = "k1-"  # keys of this rule begin with it
UPDATE = "+set-"
LONGEST_FORMER, LONG = 500, 60  # characters


def key_of(parts: Sequence[Any], ignore_case: bool = False) -> str:
    """The key of a row: the same for the same parts. Numbers are the same whatever their zeros, texts only letter by letter."""
    return MARK + hashlib.sha256(dumps([_part(each, ignore_case) for each in parts])).hexdigest()


def update_of(key: str, run_id: str, path: str) -> str:
    """The key under which a step of a run sets columns of a row, once."""
    return f"{key}{UPDATE}{hashlib.sha256(f'{run_id} {path}'.encode()).hexdigest()[:32]}"


def row_key(key: str) -> tuple[str, bool]:
    """The key of the row itself, and whether columns of it are set."""
    own, mark, _ = key.partition(UPDATE)
    return own, bool(mark)


def _part(part: Any, ignore_case: bool) -> list[str]:
    if isinstance(part, bool):
        return ["yes/no", str(part)]
    if isinstance(part, Decimal | int):
        return ["number", f"{Decimal(part).normalize():f}" if part else "0"]
    if isinstance(part, str):
        text = unicodedata.normalize("NFC", part)
        return ["text", " ".join(text.split()).casefold() if ignore_case else text]
    return ["other", dumps_sorted(part).decode()]


def readable(parts: Sequence[Any]) -> str:
    """The parts of a key for people."""
    return " · ".join(str(each) for each in parts)


def by_former_rule(parts: Sequence[Any]) -> str:
    """The parts of a key as an earlier version wrote them, the place aside."""
    return "|".join(_folded(part) for part in parts)


def _folded(part: Any) -> str:
    text = str(part)
    if not text.isprintable() or "|" in text:
        text = "".join(c for c in text if c.isprintable() and c != "|")
    return text.strip().casefold()


def former_parts(key: str, place_end: str) -> str | None:
    """What a key by the earlier rule holds besides its place, which ends with "#" and the name of a sheet or table; None for another key."""
    if not key.startswith(("xlsx:", "sql:")):
        return None
    _, mark, parts = key.partition(f"#{place_end}|")
    return parts if mark else None


def is_former(held: str, cut: bool, parts: Sequence[Any], values: Iterable[Any]) -> bool:
    """Whether a row that holds the parts of a key by the earlier rule is that of these parts. `values`: of the row beside the key."""
    wanted = by_former_rule(parts)
    if not (wanted.startswith(held) if cut else wanted == held):
        return False
    texts = {str(each) for each in values if isinstance(each, str)}
    for part in (each for each in parts if isinstance(each, str)):
        near = {text for text in texts if _folded(text) == _folded(part) or (len(part) > LONG and _folded(text)[:LONG] == _folded(part)[:LONG])}
        if near and part.strip() not in {text.strip() for text in near}:
            return False  # written for another that differs in what the earlier rule left out
    return True


__all__ = ["LONGEST_FORMER", "MARK", "by_former_rule", "former_parts", "is_former", "key_of", "readable"]
