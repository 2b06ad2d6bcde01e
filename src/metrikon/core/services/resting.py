"""How long a service is to be left alone, as the headers of its answers tell: how many calls are left, and when they are counted anew.

No standard fits what is in use: seconds or a moment (seconds or milliseconds since 1970, an HTTP date of RFC 9110), plain, or within a field of several such as
`"default";r=0;t=30` (the draft of the RateLimit fields) or `limit=100, remaining=0, reset=30`.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC
from email.utils import parsedate_to_datetime

from metrikon.core.services.notes import RateHeaders

_LEFT, _UNTIL = re.compile(r"\b(?:r|remaining)=(\d+)"), re.compile(r"\b(?:t|reset)=(\d+)")
_SINCE_1970 = 1_000_000_000  # what is more than this is a moment, and no number of seconds
LONGEST = 86_400.0  # seconds; what is further off is not believed


def rest(said: RateHeaders, headers: Mapping[str, str], now: float) -> float:
    """Seconds for which nothing may be asked; 0 where something may, or nothing can be told. `headers`: by small letters; `now`: seconds since 1970."""
    left = _number(headers.get(said.left.lower(), ""), _LEFT)
    return until(said, headers, now) if left is not None and left < 1 else 0.0


def until(said: RateHeaders, headers: Mapping[str, str], now: float) -> float:
    """Seconds until calls are counted anew; 0 where that cannot be told."""
    told = headers.get(said.again.lower(), "").strip()
    number = _number(told, _UNTIL)
    if number is None:
        wait = _dated(told, now)
    elif number > _SINCE_1970 * 100:
        wait = number / 1000 - now
    else:
        wait = number - now if number > _SINCE_1970 else number
    return wait if 0 < wait <= LONGEST else 0.0


def _number(told: str, within: re.Pattern[str]) -> float | None:
    try:
        return float(told) if len(told) < 40 else None
    except ValueError:
        found = within.search(told)
        return float(found.group(1)) if found and len(found.group(1)) < 20 else None


def _dated(told: str, now: float) -> float:
    try:
        moment = parsedate_to_datetime(told)
    except (ValueError, TypeError):
        return 0.0
    return (moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)).timestamp() - now
