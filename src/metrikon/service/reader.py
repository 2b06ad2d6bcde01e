"""Who reads and types: what is known of them by their request."""

from __future__ import annotations

from babel import Locale, UnknownLocaleError
from babel.numbers import get_decimal_symbol
from flask import request


def decimal_mark() -> str | None:
    """The decimal mark of the language that the request prefers (RFC 9110, Accept-Language); None where it names none."""
    for language, _ in request.accept_languages:
        try:
            return str(get_decimal_symbol(Locale.parse(language, sep="-")))
        except (UnknownLocaleError, ValueError):
            continue  # "*", or a language that nobody knows
    return None
