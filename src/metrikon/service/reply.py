"""Replies: views as JSON that keeps every digit."""

from __future__ import annotations

from collections.abc import Sequence

from flask import Response
from pydantic import BaseModel
from werkzeug.http import dump_options_header

from metrikon.core.values.exact import dumps
from metrikon.core.values.near import meant
from metrikon.core.values.text import clean
from metrikon.service.problems import Problem
from metrikon.store.runs import STATES


def reply(view: BaseModel, status: int = 200) -> Response:
    """A view as a response."""
    return Response(dumps(view.model_dump()), status, content_type="application/json")


def attachment(name: str) -> dict[str, str]:
    """The header by which a browser keeps an answer as a file (RFC 6266), whatever its name is made of."""
    shown = " ".join(clean(name).split())[:150] or "unnamed"
    return {"Content-Disposition": dump_options_header("attachment", {"filename": shown})}


def states(text: str, known: Sequence[str] = STATES) -> tuple[str, ...]:
    """The states in a query, parted by commas. Raises `Problem` for one that there is not."""
    found = tuple(part.strip() for part in text.split(",") if part.strip())
    for each in found:
        if each not in known:
            raise Problem(422, "no-such-state", f"There is no state {each!r}{meant(each, known)} Known: {', '.join(known)}.")
    return found
