"""An answer read as it is written: server-sent events (HTML Living Standard, 9.2) of a chat completion, stopped where it goes round in a loop.

A small model that has said all there is may say the last of it again and again, up to the limit of its answer: minutes of work, paid
for, of which nothing is kept. It is stopped when what it writes last is the same piece many times over.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any

from metrikon.core.values.exact import NotJson, loads

LARGEST = 8_000_000  # characters of an answer
EVERY = 160  # characters after which an answer is looked at
SHORTEST, LONGEST = 12, 2_000  # characters of what is repeated
TIMES = 6  # that a piece stands one after the other, from which it is a loop; short ones more often
LEAST = 900  # characters of a loop
COUNTED = 4  # times more for pieces that are the same but for their figures


class Broken(Exception):
    """What was sent is no chat completion."""


def gathered(lines: Iterable[str]) -> dict[str, Any]:
    """The whole completion that the events of a stream come to; `looped` says that it was stopped. Raises `Broken`."""
    text: list[str] = []
    tokens: list[Any] = []
    usage: dict[str, Any] = {}
    looked = size = 0
    looped = False
    for event in _events(lines):
        if isinstance(event.get("error"), dict | str):
            raise Broken(str(event["error"].get("message") if isinstance(event["error"], dict) else event["error"])[:200])
        usage = event.get("usage") or usage
        for choice in (event.get("choices") or ())[:1]:
            piece = (choice.get("delta") or {}).get("content")
            told = choice.get("logprobs")
            tokens += (told.get("content") or []) if isinstance(told, dict) else []
            if piece:
                text.append(str(piece))
                size += len(piece)
        if size > LARGEST:
            raise Broken(f"it is longer than {LARGEST} characters")
        if size - looked >= EVERY:
            looked = size
            if loops("".join(text)):
                looped = True
                break
    usage = usage or {"completion_tokens": len(text)}
    choice = {"message": {"content": "".join(text)}, "logprobs": {"content": tokens} if tokens else None}
    return {"choices": [choice], "usage": usage, "looped": looped}


def _events(lines: Iterable[str]) -> Iterator[dict[str, Any]]:
    done = False
    for line in lines:  # to the end, so that the connection can be used again
        body = line[5:].strip() if line.startswith("data:") else ""
        done = done or body == "[DONE]"
        if not body or done:
            continue
        try:
            event = loads(body.encode())
        except NotJson as error:
            raise Broken("an event is no JSON") from error
        if isinstance(event, dict):
            yield event


def loops(text: str) -> bool:
    """Whether a text ends in the same piece many times over; figures aside, still more often."""
    return _periodic(text, TIMES) or _periodic(re.sub(r"\d+", "0", text[-COUNTED * TIMES * LONGEST // 2 :]), COUNTED * TIMES)


def _periodic(text: str, times: int) -> bool:
    """Whether the end of a text is a piece of it repeated: found by the place where its last letters stood before."""
    tail = text[-SHORTEST:]
    at = len(text) - SHORTEST
    while at > 0:
        at = text.rfind(tail, 0, at + SHORTEST - 1)
        period = len(text) - SHORTEST - at
        if at < 0 or period > LONGEST:
            return False
        wanted = max(times, -(-LEAST // period)) * period
        if period >= SHORTEST and len(text) >= wanted and text[-wanted:-period] == text[-wanted + period :]:
            return True
    return False
