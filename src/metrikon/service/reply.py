"""Replies: views as JSON that keeps every digit."""

from __future__ import annotations

from flask import Response
from pydantic import BaseModel

from metrikon.core.values.exact import dumps


def reply(view: BaseModel, status: int = 200) -> Response:
    """A view as a response."""
    return Response(dumps(view.model_dump()), status, content_type="application/json")


def states(text: str) -> tuple[str, ...]:
    """The states in a query, parted by commas."""
    return tuple(part.strip() for part in text.split(",") if part.strip())
