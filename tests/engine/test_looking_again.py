"""until: a step that only looks at something is done again until a condition holds, with growing waits, and holds nothing meanwhile."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import ClassVar

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.problems import BadFlow
from metrikon.store import journal
from tests.engine.test_language import HEAD, ROW, begun, rows
from tests.helpers import at_rest, eventually, run_state

STEP = """
  - name: transcript
    fetch: {url: "BASE/talk", json: true, answers: [404]}
    until: {holds: transcript.answer.state = "ready", wait: 0.1, longest: 0.2, MORE}
    AND
"""


class _Recorder(BaseHTTPRequestHandler):
    """A service that makes a transcript: it is not there at first, then under way, then ready."""

    asked = 0
    answers: ClassVar[list[tuple[int, bytes]]] = []

    def do_GET(self) -> None:
        at = min(type(self).asked, len(self.answers) - 1)
        type(self).asked += 1
        status, body = self.answers[at]
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        return None


NOT_THERE, UNDER_WAY, READY = (404, b"<h1>not found</h1>"), (200, b'{"state": "processing"}'), (200, b'{"state": "ready", "text": "Ferns."}')


@pytest.fixture
def recorder() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Recorder)
    _Recorder.asked, _Recorder.answers = 0, [NOT_THERE, NOT_THERE, UNDER_WAY, (503, b""), UNDER_WAY, READY]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


def step(base: str, more: str = "times: 50", then: str = "retry: {wait: 0.1}") -> str:
    return STEP.replace("BASE", base).replace("MORE", more).replace("AND", then)


def looks(app: App, run: str) -> list[int]:
    with app.database.reading() as connection:
        return [entry.data["look"] for _, entry in journal.load(connection, run) if entry.event == "looked"]


def test_a_fetch_is_done_again_until_what_is_awaited_is_there_and_of_its_looks_the_last_is_kept(house: Callable[..., App], recorder: str) -> None:
    app = house(fetch_private=True)
    run = begun(app, step(recorder) + ROW.replace("VALUE", "transcript.answer.text"))
    assert at_rest(app, 1) == {"done": 1}
    assert rows(app) == ["Ferns."]
    assert _Recorder.asked == 6
    assert looks(app, run) == [4]


def test_looks_go_on_where_they_were_when_the_service_is_started_again(house: Callable[..., App], recorder: str) -> None:
    _Recorder.answers = [UNDER_WAY]
    app = house(fetch_private=True)
    run = begun(app, step(recorder, "times: 6") + ROW.replace("VALUE", "transcript.answer.text"))
    assert eventually(lambda: looks(app, run) >= [2])
    assert run_state(app, run)[0] in ("waiting", "running", "ready")
    app.close()
    again = house(fetch_private=True)
    again.start()
    assert eventually(lambda: run_state(again, run)[0] == "parked")
    assert "It was done 6 times, and it still does not hold that transcript.answer.state" in run_state(again, run)[1]
    assert _Recorder.asked in (6, 7)  # one that was under way while the service ended is not counted

    _Recorder.answers = [READY]
    again.answers.continue_run(run, "ida")
    assert eventually(lambda: run_state(again, run)[0] == "done")


@pytest.mark.parametrize(
    ("more", "then", "stands"),
    [
        ("times: 3", "on_failure: {then: end}", "stopped"),
        ("times: 3", 'on_failure: {then: go on, result: {status: 0, answer: {text: "none"}}}', "done"),
        ("times: 900", "limit: 0.5", "parked"),
    ],
)
def test_looking_ends_by_number_and_by_time_and_what_then_the_flow_says(
    house: Callable[..., App], recorder: str, more: str, then: str, stands: str
) -> None:
    _Recorder.answers = [UNDER_WAY]
    app = house(fetch_private=True)
    run = begun(app, step(recorder, more, then) + ROW.replace("VALUE", "transcript.answer.text"))
    assert eventually(lambda: run_state(app, run)[0] == stands)
    if stands == "parked":
        assert "It took longer than its limit of 0.5 seconds. It was done" in run_state(app, run)[1]


def test_an_answer_that_is_not_said_to_be_one_fails_and_is_not_looked_for_again(house: Callable[..., App], recorder: str) -> None:
    app = house(fetch_private=True)
    run = begun(app, step(recorder).replace("answers: [404]", "answers: []"))
    assert eventually(lambda: run_state(app, run)[0] == "parked")
    assert "answered 404" in run_state(app, run)[1]


def test_a_file_that_is_not_there_yet_is_no_file(house: Callable[..., App], recorder: str) -> None:
    app = house(fetch_private=True)
    begun(
        app,
        f'  - {{name: talk, fetch: {{url: "{recorder}/talk", answers: [404]}}, until: {{holds: "talk.status = 200", wait: 0.1}}}}\n'
        + ROW.replace("VALUE", "talk.size"),
    )
    assert at_rest(app, 1) == {"done": 1}
    assert rows(app) == [len(UNDER_WAY[1])]


@pytest.mark.parametrize(
    ("steps", "told"),
    [
        ('  - {name: a, set: {b: 1}, until: {holds: "a.b = 1"}}\n', "A step `set` is done once; `until` is for steps that only look"),
        ('  - {name: a, fetch: {url: "https://a.example/"}, until: {holds: "b.status = 200"}}\n', "'b' is not known"),
        ('  - {name: a, fetch: {url: "https://a.example/"}, until: {holds: "a.state = 200"}}\n', "state"),
        ('  - {name: a, fetch: {url: "https://a.example/"}, until: {holds: "a.status"}}\n', "a condition is true or false"),
        ('  - {name: a, fetch: {url: "https://a.example/", drawn: true, answers: [404]}}\n', "Take `answers` away"),
        ('  - {name: a, fetch: {url: "https://a.example/", drawn: true, json: true}}\n', "Take `json` away"),
    ],
)
def test_what_cannot_be_looked_for_is_told_when_the_flow_is_kept(house: Callable[..., App], steps: str, told: str) -> None:
    app = house()
    with pytest.raises(BadFlow, match=told):
        app.catalog.put_flow(HEAD + steps)
