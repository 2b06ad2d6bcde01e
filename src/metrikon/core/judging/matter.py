"""What is judged besides files: a text, a record, a list of them, set so that every word has its place."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from typing import Any

from metrikon.core.documents.model import Document
from metrikon.core.documents.setting import Block, paragraph, set_blocks
from metrikon.core.values.exact import dumps_sorted

MOST_PAGES = 60
LONGEST = 200_000  # characters


class NotJudged(ValueError):
    """It is nothing that can be judged; the message says why and what to do."""


def set_out(value: Any) -> Document:
    """A text or a record as a document: a line for each value of a record, under its name. Raises `NotJudged`."""
    lines = list(_lines("", value))
    if not any(line.strip() for line in lines):
        raise NotJudged("There is nothing to judge: it is empty. Correct the flow, then continue.")
    if sum(map(len, lines)) > LONGEST:
        raise NotJudged(f"It has more than {LONGEST:,} characters. Give less of it.")
    blocks: list[Block] = []
    space = 0
    for line in lines:
        if line.strip():
            blocks.append(paragraph(line, space))
        space = 0 if line.strip() else 1
    made, enough = set_blocks(blocks, MOST_PAGES)
    if not enough:
        raise NotJudged(f"It fills more than {MOST_PAGES} pages. Give less of it.")
    return Document(hashlib.sha256(dumps_sorted(value)).hexdigest(), "text", made.pages, made.tables)


def _lines(name: str, value: Any) -> Iterator[str]:
    head = f"{name}: " if name else ""
    if isinstance(value, Mapping):
        for key, part in value.items():
            yield from _lines(f"{name}.{key}" if name else str(key), part)
    elif isinstance(value, list):
        for number, part in enumerate(value, 1):
            yield from _lines(f"{name} {number}".strip(), part)
    elif isinstance(value, bool):
        yield f"{head}{'yes' if value else 'no'}"
    elif value is not None:
        first, *rest = str(value).splitlines() or [""]
        yield f"{head}{first}"
        yield from rest
