"""How long a service is left alone, by the headers of its answers."""

from __future__ import annotations

import pytest

from metrikon.core.services.notes import RateHeaders
from metrikon.core.services.resting import rest, until

NOW = 1_774_000_000.0
SAID = RateHeaders(left="X-RateLimit-Remaining", again="X-RateLimit-Reset")


@pytest.mark.parametrize(
    ("left", "again", "seconds"),
    [
        ("0", "30", 30),
        ("0", "0.5", 0.5),
        ("0", "1774000045", 45),
        ("0", "1774000045000", 45),
        ("0", "Fri, 20 Mar 2026 09:47:20 GMT", 40),
        ("0", "limit=100, remaining=0, reset=12", 12),
        ("1", "30", 0),
        ("0", "", 0),
        ("", "30", 0),
        ("none", "soon", 0),
        ("0", "-5", 0),
        ("0", "1773999990", 0),
        ("0", "9" * 60, 0),
        ("0", "nan", 0),
        ("0", "100000000", 0),
    ],
)
def test_nothing_is_asked_until_calls_are_counted_anew(left: str, again: str, seconds: float) -> None:
    assert rest(SAID, {"x-ratelimit-remaining": left, "x-ratelimit-reset": again}, NOW) == pytest.approx(seconds)


def test_one_header_may_tell_both() -> None:
    said = RateHeaders(left="RateLimit", again="RateLimit")
    assert rest(said, {"ratelimit": '"default";r=0;t=30'}, NOW) == 30
    assert rest(said, {"ratelimit": '"default";r=7;t=30'}, NOW) == 0


def test_an_answer_without_such_headers_tells_nothing() -> None:
    assert rest(SAID, {}, NOW) == until(SAID, {}, NOW) == 0
