"""Pages as pictures for models that see: which pages are shown, to whom, what they cost, and what happens when none are taken."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest
from PIL import Image

from metrikon.core.documents.model import Document, Page
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.plan import plan
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.ports.model import ModelRefused, ModelRequest, Picture
from metrikon.sandbox.model_server import ModelServer, seen
from tests.helpers import Running, eventually, typed_page

Start = Callable[..., Running]
DOCUMENTS = scenario.folder() / "documents"
PRINTED = DOCUMENTS / "01-fernhill-nurseries.pdf"
PNG = b"\x89PNG\r\n\x1a\n" + bytes(8) + (300).to_bytes(4, "big") + (500).to_bytes(4, "big")
ASKED = ModelRequest(
    [{"role": "system", "content": "rules"}, {"role": "user", "content": "<document>x</document>"}], {}, pictures=[Picture("0" * 64, 2, PNG)]
)
GOOD = httpx.Response(200, json={"choices": [{"message": {"content": "{}"}}]})
TEXT_ONLY = httpx.Response(400, json={"error": {"message": "content must be a string"}})


def model(respond: Callable[[dict[str, Any]], httpx.Response], **settings: Any) -> ChatModel:
    answer = httpx.MockTransport(lambda request: respond(loads(request.content)))
    return ChatModel(ChatSettings("http://model.example/v1", "big", pictures=True, stream=False, chances=False, **settings), transport=answer)


def pictured(body: dict[str, Any]) -> bool:
    return isinstance(body["messages"][1]["content"], list)


@pytest.fixture(scope="module")
def photo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The upper part of a photo, of which there is less to read."""
    made = tmp_path_factory.mktemp("photo") / "photo.jpg"
    with Image.open(DOCUMENTS / "06-hollins-bulb-photo.jpg") as whole:
        whole.crop((0, 0, whole.width, whole.height // 3)).save(made, quality=95)
    return made


def taken(service: Running, path: Path) -> tuple[str, dict[str, Any]]:
    """The run of a document, and its first call."""
    sent = service.client.upload(scenario.FLOW, path)
    service.client.wait(sent.run_id)
    return sent.run_id, service.client.call(service.client.calls(sent.run_id)[0]["id"])


def test_only_pages_that_were_read_from_pictures_are_shown(invoice: RecordType) -> None:
    printed = typed_page("Invoice number 7", 1)
    scanned = typed_page("Total 12.00", 2)
    pages = (printed, Page(2, scanned.width, scanned.height, "ocr", scanned.words, scanned.lines))
    made = plan(invoice, Index(Document("0" * 64, "pdf", pages)), "2026-11-23")
    assert [ask.pages for ask in made.asks] == [(2,)]


def test_each_part_of_a_long_scan_has_its_own_pages(invoice: RecordType) -> None:
    typed = [typed_page("\n".join(f"line {n} of page {number}" for n in range(60)), number) for number in range(1, 7)]
    pages = tuple(Page(each.number, each.width, each.height, "ocr", each.words, each.lines) for each in typed)
    parts = [ask.pages for ask in plan(invoice, Index(Document("0" * 64, "pdf", pages)), "2026-11-23", room=3000).asks]
    assert len(parts) > 2
    assert sorted({page for part in parts for page in part}) == [1, 2, 3, 4, 5, 6]
    assert all(part == tuple(sorted(part)) and len(part) < 6 for part in parts)


def test_a_picture_goes_as_a_part_of_the_message_that_asks() -> None:
    bodies: list[dict[str, Any]] = []
    big = model(lambda body: bodies.append(body) or GOOD)  # type: ignore[func-returns-value]
    assert big.answer(ASKED).seen == 1
    plain, sizes = seen(bodies[0]["messages"])
    assert sizes == [(300, 500)]
    assert plain[1]["content"].startswith("<document>x</document>\nPage 2 of the document")


def test_a_server_that_takes_no_pictures_is_asked_without_and_remembered() -> None:
    bodies: list[dict[str, Any]] = []

    def respond(body: dict[str, Any]) -> httpx.Response:
        bodies.append(body)
        return TEXT_ONLY if pictured(body) else GOOD

    big = model(respond)
    assert big.answer(ASKED).seen == 0
    assert (big.sees, big.mode) == (0, "schema")
    big.answer(ASKED)
    assert [pictured(body) for body in bodies] == [True, False, False]


def test_a_picture_that_is_too_large_does_not_end_the_seeing() -> None:
    refuse: list[bool] = []
    big = model(lambda body: TEXT_ONLY if pictured(body) and refuse else GOOD)
    big.answer(ASKED)
    refuse.append(True)
    assert big.answer(ASKED).seen == 0
    assert big.sees > 0


def test_a_request_refused_with_and_without_pictures_is_refused() -> None:
    with pytest.raises(ModelRefused, match="content must be a string"):
        model(lambda body: TEXT_ONLY).answer(ASKED)


@pytest.mark.parametrize(("context", "sees"), [(8_192, 1), (32_768, 9), (1_024, 1)])
def test_pictures_leave_half_of_the_room_to_words(context: int, sees: int) -> None:
    big = model(lambda body: GOOD, context=context)
    assert big.sees == sees
    blind = ChatModel(ChatSettings("http://model.example/v1", "big", context=context))
    assert blind.sees == 0
    assert blind.room >= big.room


def test_a_photo_is_shown_and_the_call_says_so(running: Start, stand_in: ModelServer, photo: Path) -> None:
    service = running(model_url=stand_in.url, model_name="stand-in", model_pictures=True)
    assert [each["pictures"] for each in service.client.models()] == [0, 1]
    _, call = taken(service, photo)
    assert stand_in.mood.pictures == 1
    assert [each["page"] for each in call["pictures"]] == [1]
    assert call["input_tokens"] > 1000
    _, printed = taken(service, PRINTED)
    assert (stand_in.mood.pictures, printed["pictures"]) == (1, [])


def test_a_blind_server_reads_the_photo_by_its_words(running: Start, stand_in: ModelServer, photo: Path) -> None:
    stand_in.mood.blind = True
    service = running(model_url=stand_in.url, model_name="stand-in", model_pictures=True)
    run_id, _ = taken(service, photo)
    assert service.client.run(run_id).state in ("done", "review")
    assert eventually(lambda: [each["pictures"] for each in service.client.models()] == [0, 0])


def test_what_a_picture_costs_is_in_the_estimate(running: Start, stand_in: ModelServer, photo: Path) -> None:
    service = running(model_url=stand_in.url, model_name="stand-in", model_pictures=True, model_picture_tokens=1_100)
    _, call = taken(service, photo)
    assert stand_in.mood.pictures == 1
    found = service.client.estimate(scenario.FLOW, photo)["input_tokens"]
    assert abs(found - call["input_tokens"]) < 0.15 * call["input_tokens"]
    service.app.models["stand-in"].sees = 0
    assert found - service.client.estimate(scenario.FLOW, photo)["input_tokens"] > 900
