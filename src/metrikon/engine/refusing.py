"""Why something that was asked for is not done."""

from __future__ import annotations


class NotNow(Exception):
    """What it is about is not where this can be done; the message says where it is."""


class NotThere(Exception):
    """There is no such thing."""
