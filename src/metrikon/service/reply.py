"""Replies: views as JSON that keeps every digit."""

from __future__ import annotations

from flask import Response
from pydantic import BaseModel
from werkzeug.http import dump_options_header

from metrikon.core.values.exact import dumps
from metrikon.core.values.text import clean


def reply(view: BaseModel, status: int = 200) -> Response:
    """A view as a response."""
    return Response(dumps(view.model_dump()), status, content_type="application/json")


def attachment(name: str) -> dict[str, str]:
    """The header by which a browser keeps an answer as a file (RFC 6266), whatever its name is made of."""
    shown = " ".join(clean(name).split())[:150] or "unnamed"
    return {"Content-Disposition": dump_options_header("attachment", {"filename": shown})}


def states(text: str) -> tuple[str, ...]:
    """The states in a query, parted by commas."""
    return tuple(part.strip() for part in text.split(",") if part.strip())
