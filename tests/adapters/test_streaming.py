"""Answers read as they are written: put together whatever the pieces are, stopped where they go round in a loop."""

from __future__ import annotations

import json
from itertools import pairwise
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.values.exact import loads
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.models.streaming import Broken, gathered, loops
from metrikon.ports.model import ModelDown, ModelRequest
from metrikon.sandbox.model_server import ModelServer

ASKED = ModelRequest(
    [{"role": "system", "content": "Read."}, {"role": "user", "content": "<document>\nFern 12\nMoss 7\n</document>"}],
    {"type": "object", "properties": {"name": {"type": "string"}}, "required": ["name"]},
)


def events(pieces: list[str], **more: Any) -> list[str]:
    """The lines of a stream that sends a text in pieces."""
    sent = [{"choices": [{"delta": {"content": piece}}]} for piece in pieces] + [{"choices": [], **more}]
    return [line for each in sent for line in (f"data: {json.dumps(each)}", "")] + [": a comment", "data: [DONE]", ""]


@given(st.text(max_size=300), st.lists(st.integers(0, 300), max_size=20))
def test_an_answer_is_the_same_however_it_is_cut_into_pieces(text: str, cuts: list[int]) -> None:
    edges = sorted({0, len(text), *(cut for cut in cuts if cut < len(text))})
    pieces = [text[a:b] for a, b in pairwise(edges)]
    found = gathered(events(pieces, usage={"prompt_tokens": 3, "completion_tokens": 9}))
    assert found["choices"][0]["message"]["content"] == text
    assert found["usage"]["completion_tokens"] == 9


@given(st.text(min_size=12, max_size=200).filter(lambda piece: len(set(piece)) > 3), st.text(max_size=80))
def test_a_piece_that_is_said_many_times_over_is_a_loop(piece: str, before: str) -> None:
    assert loops(before + piece * (900 // len(piece) + 8))


@given(st.lists(st.text("abcdefgh", min_size=2, max_size=30), min_size=2, max_size=60, unique=True))
def test_rows_that_differ_are_no_loop(names: list[str]) -> None:
    assert not loops(json.dumps([{"name": name, "pieces": number, "price": 12.5} for number, name in enumerate(names)])[:-1])


def test_a_long_table_of_equal_prices_and_growing_numbers_is_no_loop() -> None:
    rows = [{"position": number, "price": 4.5} for number in range(20)]
    assert not loops(json.dumps(rows)[:-1])


def test_rows_that_differ_in_a_number_alone_are_a_loop_when_there_is_no_end_to_them() -> None:
    assert loops(json.dumps([{"position": number, "price": 4.5} for number in range(200)])[:-1])


def test_a_model_that_goes_round_in_a_loop_is_stopped_and_what_it_said_before_is_kept() -> None:
    server = ModelServer().start()
    try:
        with httpx.Client(trust_env=False) as client:
            client.post(f"{server.url.removesuffix('/v1')}/misbehave", json={"kinds": ["loop"]})
            one, two = (ChatModel(ChatSettings(server.url, "stand-in", most_tokens=20_000, stream=streams)) for streams in (False, True))
            whole = one.answer(ASKED)
            assert server.mood.sent == 0
            cut = two.answer(ASKED)
            one.close()
            two.close()
        assert whole.text.startswith(cut.text[:500])
        assert len(cut.text) < len(whole.text) / 3
        assert cut.usage.input_tokens > 0  # what was cut short was paid for, though its server never told how much
        assert cut.usage.output_tokens > 0
    finally:
        server.stop()


def test_a_server_that_cannot_stream_is_asked_for_the_whole_answer_from_then_on() -> None:
    seen: list[bool] = []

    def respond(request: httpx.Request) -> httpx.Response:
        streams = bool(loads(request.content).get("stream"))
        seen.append(streams)
        if streams:
            return httpx.Response(400, json={"error": {"message": "stream is not supported"}})
        return httpx.Response(200, json={"choices": [{"message": {"content": "{}"}}], "usage": {}})

    chat = ChatModel(ChatSettings("http://model.example/v1", "big"), transport=httpx.MockTransport(respond))
    assert [chat.answer(ASKED).text, chat.answer(ASKED).text] == ["{}", "{}"]
    assert seen == [True, False, False]


@pytest.mark.parametrize("line", ["data: {nonsense", 'data: {"error": {"message": "out of memory"}}'])
def test_a_stream_that_breaks_off_is_a_failure_of_the_model(line: str) -> None:
    with pytest.raises(Broken):
        gathered([*events(["{"])[:2], line])
    body = "\n".join([*events(["{"])[:2], line, ""])
    answer = httpx.Response(200, text=body, headers={"Content-Type": "text/event-stream"})
    with pytest.raises(ModelDown, match="broke off"):
        ChatModel(ChatSettings("http://model.example/v1", "big", attempts=1), transport=httpx.MockTransport(lambda _: answer)).answer(ASKED)


def test_probabilities_are_gathered_from_the_pieces() -> None:
    lines = [
        f"data: {json.dumps({'choices': [{'delta': {'content': text}, 'logprobs': {'content': [{'token': text, 'logprob': -0.1}]}}]})}"
        for text in ('{"name": ', '"Fern"}')
    ]
    assert [each["token"] for each in gathered(lines)["choices"][0]["logprobs"]["content"]] == ['{"name": ', '"Fern"}']
