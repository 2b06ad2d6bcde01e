"""What comes with a request: a text, or the hash of a file that is kept."""

from __future__ import annotations

from flask import request

from metrikon.app.assemble import App
from metrikon.service.problems import Problem

LARGEST_TEXT = 600_000  # bytes of a flow, record type or decision table


def kept_file(app: App, sha256: str) -> str:
    """The hash of a file that is kept here. Raises `Problem`."""
    if not app.files.here(sha256):
        raise Problem(404, "not-there", "There is no such file here.")
    return sha256


def text_sent() -> str:
    """The body as text. Raises `Problem`."""
    data = request.get_data(cache=False)
    if len(data) > LARGEST_TEXT:
        raise Problem(413, "too-large", f"The text has {len(data)} bytes; at most {LARGEST_TEXT} are taken.")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise Problem(422, "not-utf-8", "The text is not UTF-8.") from error
