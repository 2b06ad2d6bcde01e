"""Models on the wire: retries, waits, errors; and that no misbehaviour of a model gets into a record unseen."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import httpx
import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.records.findings import stops
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.drivers.extract import extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.models.replay import ReplayModel
from metrikon.ports.model import ModelDown, ModelRefused, ModelRequest
from metrikon.readers.registry import read
from metrikon.sandbox.model_server import TEXT_KINDS, ModelServer

GOOD = {"choices": [{"message": {"content": '{"number": "7"}'}}], "usage": {"prompt_tokens": 11, "completion_tokens": 5}}
NAME = "01-fernhill-nurseries.pdf"


@pytest.fixture(scope="module")
def paper() -> LocalPaper:
    return LocalPaper(Index(read(scenario.document(NAME))))


@pytest.fixture
def request_(invoice: RecordType, paper: LocalPaper) -> ModelRequest:
    ask = paper.asks(invoice, Asking("2026-11-23"))[0]
    return ModelRequest(ask.messages, ask.schema)


def model(*responses: httpx.Response | Exception, slept: list[float] | None = None) -> ChatModel:
    """A model behind answers given one after the other."""
    left = list(responses)

    def respond(request: httpx.Request) -> httpx.Response:
        answer = left.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return answer

    settings = ChatSettings("http://model.example/v1", "big", key="k", attempts=3)
    return ChatModel(settings, transport=httpx.MockTransport(respond), sleep=(slept if slept is not None else []).append)


def test_the_request_has_the_form_that_servers_know(request_: ModelRequest) -> None:
    seen: list[httpx.Request] = []

    def respond(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(200, json=GOOD)

    chat = ChatModel(ChatSettings("http://model.example/v1/", "big", key="secret"), transport=httpx.MockTransport(respond))
    answer = chat.answer(request_)
    body = loads(seen[0].content)
    assert str(seen[0].url) == "http://model.example/v1/chat/completions"
    assert seen[0].headers["authorization"] == "Bearer secret"
    assert body["model"] == "big"
    assert body["response_format"]["json_schema"]["schema"]["properties"]["total"]["type"] == ["number", "null"]
    assert [each["role"] for each in body["messages"]] == ["system", "user"]
    assert (answer.usage.input_tokens, answer.usage.output_tokens) == (11, 5)


@pytest.mark.parametrize(
    "bad",
    [
        httpx.Response(500),
        httpx.Response(503),
        httpx.ConnectError("refused"),
        httpx.ReadTimeout("slow"),
        httpx.RemoteProtocolError("cut"),
        httpx.Response(200, text="<html>"),
    ],
)
def test_a_failure_is_tried_again_with_growing_waits(bad: httpx.Response | Exception, request_: ModelRequest) -> None:
    slept: list[float] = []
    assert model(bad, bad, httpx.Response(200, json=GOOD), slept=slept).answer(request_).text == '{"number": "7"}'
    assert slept == [0.5, 1.0]


def test_the_wait_that_a_server_asks_for_is_kept(request_: ModelRequest) -> None:
    slept: list[float] = []
    busy = httpx.Response(429, headers={"Retry-After": "7"})
    model(busy, httpx.Response(200, json=GOOD), slept=slept).answer(request_)
    assert slept == [7.0]


def test_a_wait_too_long_to_sit_out_is_handed_on(request_: ModelRequest) -> None:
    with pytest.raises(ModelDown) as caught:
        model(httpx.Response(429, headers={"Retry-After": "300"})).answer(request_)
    assert caught.value.wait == 300.0


def test_after_the_last_try_the_model_is_down(request_: ModelRequest) -> None:
    with pytest.raises(ModelDown, match="500"):
        model(*[httpx.Response(500)] * 3).answer(request_)


@pytest.mark.parametrize(("status", "hint"), [(401, "key"), (404, "address"), (403, "big")])
def test_a_refusal_is_not_tried_again(status: int, hint: str, request_: ModelRequest) -> None:
    with pytest.raises(ModelRefused, match=hint):
        model(httpx.Response(status, json={"error": {"message": "no"}})).answer(request_)


@pytest.mark.parametrize(("known", "form"), [("json_object", {"type": "json_object"}), (None, None)])
def test_how_a_server_holds_answers_to_their_form_is_found_out_once(known: str | None, form: object, request_: ModelRequest) -> None:
    seen: list[Any] = []

    def respond(request: httpx.Request) -> httpx.Response:
        body = loads(request.content)
        asked = body.get("response_format")
        seen.append(body)
        if asked is not None and asked["type"] != known:
            return httpx.Response(400, json={"error": {"message": "response_format is not supported"}})
        return httpx.Response(200, json=GOOD)

    chat = ChatModel(ChatSettings("http://model.example/v1", "big"), transport=httpx.MockTransport(respond))
    assert chat.answer(request_).text == '{"number": "7"}'
    tried = len(seen)
    chat.answer(request_)
    assert len(seen) == tried + 1
    assert seen[-1].get("response_format") == form
    assert '"document_type"' in seen[-1]["messages"][0]["content"]  # the form is told in words instead


def test_a_request_refused_in_every_form_is_refused(request_: ModelRequest) -> None:
    with pytest.raises(ModelRefused, match="too long"):
        model(*[httpx.Response(400, json={"error": {"message": "too long"}})] * 6).answer(request_)


def test_probabilities_of_tokens_are_taken_where_they_are_served(request_: ModelRequest) -> None:
    tokens = [{"token": '{"number": "', "logprob": 0}, {"token": "7", "logprob": -0.5}, {"token": '"}', "logprob": -0.01}]
    answer = {"choices": [{"message": {"content": '{"number": "7"}'}, "logprobs": {"content": tokens}}]}
    assert model(httpx.Response(200, json=answer)).answer(request_).tokens == ((12, 0.0), (13, -0.5), (15, -0.01))


def test_an_address_that_is_no_url_is_told_with_what_to_do(request_: ModelRequest) -> None:
    with pytest.raises(ModelRefused, match="is no URL"):
        ChatModel(ChatSettings("http://models.example:port/v1", "big")).answer(request_)
    with pytest.raises(ModelDown, match="cannot be reached"):
        ChatModel(ChatSettings("nowhere", "big", attempts=1)).answer(request_)


def test_probabilities_are_set_beside_the_text_that_a_server_took_out_of_its_fence(request_: ModelRequest) -> None:
    tokens = [{"token": text, "logprob": -0.1 * n} for n, text in enumerate(["```json", "\n", '{"number": "', "7", '"}', "\n```", ""])]
    answer = {"choices": [{"message": {"content": '{"number": "7"}'}, "logprobs": {"content": tokens}}]}
    found = model(httpx.Response(200, json=answer)).answer(request_).tokens
    assert [(end, round(chance, 1)) for end, chance in found[:3]] == [(12, -0.2), (13, -0.3), (15, -0.4)]


@pytest.mark.parametrize("tokens", [[{"token": "other words", "logprob": -1}], [{"token": '{"number": "7"}', "logprob": "sure"}], ["{"], "none"])
def test_probabilities_that_do_not_belong_to_the_text_are_not_used(request_: ModelRequest, tokens: object) -> None:
    answer = {"choices": [{"message": {"content": '{"number": "7"}'}, "logprobs": {"content": tokens}}]}
    assert model(httpx.Response(200, json=answer)).answer(request_).tokens == ()


def test_answers_are_replayed_as_they_were_recorded(tmp_path: Path, request_: ModelRequest) -> None:
    kept = tmp_path / "answers.json"
    first = ReplayModel(kept, model(httpx.Response(200, json=GOOD))).answer(request_)
    assert ReplayModel(kept).answer(request_).text == first.text
    with pytest.raises(ModelRefused, match="no answer"):
        ReplayModel(kept).answer(ModelRequest([{"role": "user", "content": "other"}], request_.schema))


def test_an_unusable_answer_is_asked_again_with_the_error(invoice: RecordType, paper: LocalPaper) -> None:
    seen: list[bytes] = []

    def respond(request: httpx.Request) -> httpx.Response:
        seen.append(request.content)
        text = "no idea" if len(seen) == 1 else '{"number": "FN-20417"}'
        return httpx.Response(200, json={"choices": [{"message": {"content": text}}]})

    chat = ChatModel(ChatSettings("http://model.example/v1", "big"), transport=httpx.MockTransport(respond))
    found = extract(chat, invoice, paper, "2026-11-23")
    assert found.reading.record["number"] == "FN-20417"
    assert b"holds no JSON object" in seen[1]
    assert found.asked == len(seen) == 2


def test_a_model_that_never_answers_usably_leaves_the_record_to_a_person(invoice: RecordType, paper: LocalPaper) -> None:
    answer = httpx.Response(200, json={"choices": [{"message": {"content": "no idea"}}]})
    found = extract(model(answer, answer, answer), invoice, paper, "2026-11-23")
    assert {"vendor", "currency"}.isdisjoint(found.reading.record)  # the rest stands by its labels and in the cells of the table
    assert found.reading.findings[0].check == "no answer"
    assert stops(found.reading.findings)


@pytest.mark.parametrize("kind", TEXT_KINDS)
def test_every_misbehaviour_ends_in_a_right_record_or_before_a_person(
    kind: str, stand_in: ModelServer, invoice: RecordType, paper: LocalPaper
) -> None:
    chat = ChatModel(ChatSettings(stand_in.url, "stand-in"))
    (right,) = [each for each in scenario.expected() if each.name == NAME]
    stand_in.mood.kinds = (kind,)
    try:
        for _ in range(12):
            reading = extract(chat, invoice, paper, "2026-11-23").reading
            wrong = scenario.score(right.record, reading.record).wrong
            assert not wrong or stops(reading.findings), (kind, wrong)
    finally:
        chat.close()


def test_the_stand_in_answers_for_any_schema(stand_in: ModelServer) -> None:
    schema = {"type": "object", "properties": {"bed": {"type": "string"}, "plants": {"type": "number"}, "kind": {"enum": ["shade", "sun"]}}}
    prompt = "Read it.\n<document>\nBed: North wall\nPlants   12\nLies in the shade\n</document>"
    body = {"messages": [{"role": "user", "content": prompt}], "response_format": {"type": "json_schema", "json_schema": {"schema": schema}}}
    answer = httpx.post(f"{stand_in.url}/chat/completions", json=body, trust_env=False).json()
    assert loads(answer["choices"][0]["message"]["content"]) == {"bed": "North wall", "plants": 12, "kind": "shade"}
    assert answer["usage"]["prompt_tokens"] > 0
    assert answer["model"] == "stand-in"


@pytest.mark.parametrize(("kind", "expected"), [("429", ModelDown), ("500", ModelDown), ("hang", ModelDown), ("cut", ModelDown)])
def test_the_stand_in_misbehaves_on_the_wire_when_told_to(
    kind: str, expected: type[Exception], stand_in: ModelServer, request_: ModelRequest
) -> None:
    told = httpx.post(f"{stand_in.url.removesuffix('/v1')}/misbehave", json={"kinds": [kind], "hang": 1.5, "retry_after": 0}, trust_env=False)
    assert told.json() == {"set": True}
    chat = ChatModel(ChatSettings(stand_in.url, "stand-in", timeout=0.4, attempts=2, first_wait=0.01))
    with pytest.raises(expected):
        chat.answer(request_)
    chat.close()
    assert stand_in.mood.calls == 2
