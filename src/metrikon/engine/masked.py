"""What leaves a connection, without its secret: what was fetched, and what is told of a call that failed."""

from __future__ import annotations

from dataclasses import replace

from metrikon.connections.fetching import Fetched, FetchFailed
from metrikon.core.values.masking import Mask


def answer(found: Fetched, mask: Mask) -> Fetched:
    """What was fetched, with a mark for each secret in it."""
    return replace(
        found,
        url=mask.text(found.url),
        name=mask.text(found.name),
        data=mask.data(found.data) if found.data is not None else None,
        validators={name: mask.text(value) for name, value in found.validators.items()},
        links=mask.text(found.links),
        headers={name: mask.text(value) for name, value in found.headers.items()},
    )


def failure(error: FetchFailed, mask: Mask) -> FetchFailed:
    """The same failure, told without a secret."""
    error.args = (mask.text(str(error)),)
    error.told = mask.text(error.told)
    error.headers = {name: mask.text(value) for name, value in error.headers.items()}
    return error
