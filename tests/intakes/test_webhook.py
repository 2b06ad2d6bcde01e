"""What other services post: believed by its signature, stored before it is answered, and answered the same when it is sent again."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import secrets
import socket
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import urlsplit

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.client import ClientError
from metrikon.intakes.webhook import Posted, Webhook, signature, taken_from, unproved
from metrikon.store import intakes
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: calls
intakes: [{kind: webhook%s}]
steps:
  - {name: made, set: {caller: "${item.data.caller}"}}
"""
CALL = {"event": "report", "call": {"id": 17, "seconds": 92.50}, "caller": "Ada"}


class Sender:
    """A service that posts to us."""

    def __init__(self, running: Running, more: str = "", text: str = FLOW) -> None:
        self.running = running
        running.client.put_flow("calls", text % more)
        found = running.client.make_address("calls", "webhook")
        self.url, self.secret = found["address"], found["secret"]
        self.http = httpx.Client(timeout=60)

    def post(self, body: Any = CALL, id_: str = "", **headers: str) -> httpx.Response:
        """Send something, signed as Standard Webhooks has it."""
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        name, now = id_ or secrets.token_hex(8), int(time.time())
        signed = {"webhook-id": name, "webhook-timestamp": str(now), "webhook-signature": signature(self.secret, name, now, data)}
        return self.http.post(self.url, content=data, headers={"Content-Type": "application/json", **signed, **headers})


@pytest.fixture
def send(running: Callable[..., Running]) -> Iterator[Callable[..., Sender]]:
    made: list[Sender] = []

    def sender(more: str = "", text: str = FLOW) -> Sender:
        made.append(Sender(running(), more, text))
        return made[-1]

    yield sender
    for each in made:
        each.http.close()


def test_what_is_posted_is_an_item_with_all_it_says_exactly(send: Callable[..., Sender]) -> None:
    sender = send()
    answer = sender.post(b'{"event": "report", "caller": "Ada", "cost": 0.10, "big": 12345678901234567890.123}')
    assert answer.status_code == 202
    eventually(lambda: sender.running.client.run(answer.json()["run"]).state == "done")
    item = sender.running.client.item(answer.json()["item"])
    assert item["intake"] == "webhook"
    assert item["data"]["cost"].as_tuple().exponent == -2, "ten cents, not a tenth"
    assert str(item["data"]["big"]) == "12345678901234567890.123"
    assert not list((sender.running.app.home / "files").rglob("*.*")), "a small payload is in the row of its item alone"


def test_an_item_is_called_as_its_intake_says_and_else_as_it_came(send: Callable[..., Sender]) -> None:
    sender = send(', item_name: "Call of ${item.data.caller}/${item.data.n}"')
    for number, body in enumerate((b'{"caller": "Ada\\nFenwick", "n": 7}', b'{"n": [1]}', b"not json")):
        assert sender.post(body, f"id-{number}").status_code == 202
    names = sorted(each.name for each in sender.running.client.items())
    assert "Call of Ada Fenwick-7.json" in names
    assert len([each for each in names if each.startswith("webhook ")]) == 2, names
    with pytest.raises(ClientError, match="'dta' is not known of what comes"):
        sender.running.client.put_flow("calls", FLOW % ', item_name: "${item.dta.x}"')


def test_the_same_id_is_answered_the_same_and_taken_once(send: Callable[..., Sender]) -> None:
    sender = send()
    first, again = (sender.post(id_="event-1") for _ in range(2))
    assert (first.status_code, again.status_code) == (202, 202)
    assert {**first.json(), "known": True} == again.json()
    assert len(list(sender.running.client.items())) == 1


@pytest.mark.parametrize(
    ("more", "headers"),
    [
        (", sign: token", lambda secret, body: {"Authorization": f"Bearer {secret}"}),
        (", sign: token, header: X-Key", lambda secret, body: {"X-Key": secret}),
        (", sign: basic, user: garden", lambda secret, body: {"Authorization": "Basic " + base64.b64encode(f"garden:{secret}".encode()).decode()}),
        (", sign: hmac, header: X-Sig", lambda secret, body: {"X-Sig": hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()}),
        (", sign: none", lambda secret, body: {}),
    ],
)
def test_each_way_of_proving_who_sends_is_believed_and_nothing_else(more: str, headers: Any, send: Callable[..., Sender]) -> None:
    sender = send(more)
    body = json.dumps(CALL).encode()
    right = sender.http.post(sender.url, content=body, headers={"Content-Type": "application/json", **headers(sender.secret, body)})
    assert right.status_code == 202
    if "none" not in more:
        wrong = sender.http.post(sender.url, content=body + b" ", headers={"Content-Type": "application/json", **headers("other", body)})
        assert wrong.status_code == 401
        assert sender.http.post(sender.url, content=body).status_code == 401
    assert sender.http.post(sender.url + "x", content=body).status_code == 404


def test_a_wrong_signature_is_refused_and_told_on_today_until_a_right_one_comes(send: Callable[..., Sender]) -> None:
    sender = send()
    right = sender.secret
    sender.secret = "whsec_" + base64.b64encode(b"another secret of theirs").decode()
    answer = sender.post()
    assert answer.status_code == 401
    assert "not made with this intake's secret" in answer.json()["detail"]
    assert any("not believed" in each for each in sender.running.client.today()["problems"])
    sender.secret = right
    assert sender.post().status_code == 202
    assert not any("not believed" in each for each in sender.running.client.today()["problems"])
    assert len(list(sender.running.client.items())) == 1


def test_an_old_signature_is_worth_nothing(send: Callable[..., Sender]) -> None:
    secret = "whsec_" + base64.b64encode(b"x" * 24).decode()
    posted = Posted({"webhook-id": "1", "webhook-timestamp": "1000", "webhook-signature": signature(secret, "1", 1000, b"{}")}, b"{}")
    assert unproved(Webhook(), secret, posted, 1000) == ""
    assert "minutes away" in unproved(Webhook(), secret, posted, 1400)


def test_the_signature_is_that_of_the_standard() -> None:
    """The example of the specification of Standard Webhooks."""
    secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
    body = b'{"test": 2432232314}'
    assert signature(secret, "msg_p5jXN8AQM9LWM0D4loKWxJek", 1614265330, body) == "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="


def test_two_of_three_events_are_let_go_counted_and_kept_to_look_at(send: Callable[..., Sender]) -> None:
    sender = send(", where: 'item.data.event = \"report\"', id: 'item.data.event'")
    answers = [sender.post({**CALL, "event": event}).json() for event in ("began", "ended", "report")]
    assert [each["taken"] for each in answers] == [False, False, True]
    client = sender.running.client
    gone = client.let_go("calls", "webhook")
    assert gone["count"] == 2
    assert {each["identity"] for each in gone["items"]} == {"began", "ended"}
    client.keep_sample("calls", "began", intake="webhook", let_go="began", why="what a call begins with")
    assert client.samples("calls")["items"][0]["name"] == "began"


def test_while_the_flow_is_off_the_sender_is_asked_to_come_again_and_what_came_can_be_looked_at(send: Callable[..., Sender]) -> None:
    sender = send()
    client = sender.running.client
    client.switch_flow("calls", False)
    answer = sender.post(id_="event-1")
    assert (answer.status_code, answer.headers["Retry-After"]) == (503, "60")
    assert client.let_go("calls", "webhook")["items"][0]["identity"] == "event-1"
    client.switch_flow("calls", True)
    assert sender.post(id_="event-1").json()["taken"]


def test_the_sender_may_wait_for_the_end_of_the_run_and_is_answered_all_the_same_when_it_takes_longer(send: Callable[..., Sender]) -> None:
    sender = send(", within: 20, answer: {greeting: 'Hello ${made.caller}'}")
    answer = sender.post()
    assert (answer.status_code, answer.json()["state"], answer.json()["answer"]) == (200, "done", {"greeting": "Hello Ada"})
    waits = FLOW.replace("  - {name: made", '  - {name: later, wait: {for: "PT1H"}}\n  - {name: made')
    sender.running.client.put_flow("calls", waits % ", within: 0.3")
    answer = sender.post()
    assert answer.status_code == 202
    assert answer.json()["taken"]


def test_forms_files_and_recordings_come_in(send: Callable[..., Sender]) -> None:
    sender = send(", sign: none")
    client = sender.running.client
    form = sender.http.post(sender.url, data={"caller": "Ada", "plants": ["fern", "moss"]}).json()
    assert client.item(form["item"])["data"] == {"caller": "Ada", "plants": ["fern", "moss"]}
    both = sender.http.post(sender.url, data={"caller": "Ida"}, files=[("one", ("a.txt", b"first")), ("two", ("b.txt", b"second"))]).json()
    assert client.item(both["item"])["name"] == "a.txt"
    sound = sender.http.post(sender.url, content=b"RIFF....WAVE", headers={"Content-Type": "audio/wav"}).json()
    assert client.item(sound["item"])["name"].endswith(".wav")
    text = sender.http.post(sender.url, content="12 on potting soil", headers={"Content-Type": "text/plain"}).json()
    assert client.item(text["item"])["data"]["text"] == "12 on potting soil"
    client.put_flow("calls", FLOW % ", sign: none, takes: each")
    each = sender.http.post(sender.url, files=[("one", ("c.txt", b"third")), ("two", ("d.txt", b"fourth"))]).json()
    assert len(each["items"]) == 2


@pytest.mark.parametrize(
    ("body", "headers", "status"),
    [
        (b"", {"Content-Type": "application/json"}, 202),
        (b"{", {"Content-Type": "application/json"}, 202),
        (b"[" * 100_000, {"Content-Type": "application/json"}, 202),
        (b"x" * 3000, {"Content-Type": "application/json"}, 413),
        (b"--a\r\n", {"Content-Type": "multipart/form-data; boundary=a"}, 202),
        (b"x", {"Content-Type": "multipart/form-data"}, 400),
        (b"x", {"Content-Type": "text/plain", "Content-Disposition": 'attachment; filename="../../etc/passwd"'}, 202),
        (b"\xff\xfe\x00", {"Content-Type": "application/x-www-form-urlencoded"}, 202),
    ],
)
def test_hostile_bodies_are_answered_in_words(body: bytes, headers: dict[str, str], status: int, running: Callable[..., Running]) -> None:
    size = len(body)
    sender = Sender(running(max_bytes=200_000 if size > 10_000 else 2000), ", sign: none")
    sender.http.close()
    answer = httpx.post(sender.url, content=body, headers=headers)
    assert answer.status_code in (status, 202 if status == 400 else status)
    assert "Traceback" not in answer.text
    for item in sender.running.client.items():
        assert "/" not in item.name


@given(
    body=st.binary(max_size=300),
    media=st.sampled_from(["application/json", "text/plain", "audio/wav", "", "application/x+json", ";;"]),
    name=st.text(max_size=40),
)
@settings(max_examples=200, deadline=None)
def test_whatever_is_posted_becomes_a_thing_or_words(body: bytes, media: str, name: str) -> None:
    thing, pieces = taken_from(Webhook(), Posted({"content-type": media, "content-disposition": f"attachment; filename={name}"}, body), 0, "")
    assert pieces[0].data == body
    assert thing.name.isprintable()


def test_a_crowd_of_posts_is_stored_before_it_is_answered_none_twice(send: Callable[..., Sender]) -> None:
    sender = send()
    took: list[float] = []
    answers: list[dict[str, Any]] = []

    def some(start: int) -> None:
        for number in range(start, 200, 20):
            began = time.perf_counter()
            answer = sender.post({**CALL, "caller": f"caller {number}"}, id_=f"event-{number}")
            took.append(time.perf_counter() - began)
            answers.append(answer.json())

    crowd = [threading.Thread(target=some, args=(start,)) for start in range(20)]
    for each in crowd:
        each.start()
    for each in crowd:
        each.join()
    assert len({each["item"] for each in answers}) == 200
    assert len(list(sender.running.client.items())) == 200
    assert sender.post({**CALL, "caller": "caller 7"}, id_="event-7").json()["known"]


def test_the_secret_is_kept_sealed_and_changes_with_the_key(send: Callable[..., Sender]) -> None:
    sender = send()
    app = sender.running.app
    with app.database.reading() as connection:
        row = intakes.get(connection, "calls", "webhook")
    assert sender.secret.encode() not in bytes((row or {})["sealed"])
    assert sender.running.client.new_key() == 1
    assert sender.post().status_code == 202
    fresh = sender.running.client.make_address("calls", "webhook", fresh=True)
    assert sender.post().status_code == 404
    sender.url, sender.secret = fresh["address"], fresh["secret"]
    assert sender.post().status_code == 202


@pytest.mark.parametrize("more", ["", ", sign: token", ", sign: hmac", ", sign: basic, user: garden"])
def test_what_nobody_signed_is_refused_before_its_body_is_taken(more: str, send: Callable[..., Sender]) -> None:
    sender = send(more)
    place = urlsplit(sender.url)
    with socket.create_connection((place.hostname or "", place.port or 80), timeout=10) as plain:
        plain.sendall(f"POST {place.path} HTTP/1.1\r\nHost: a\r\nContent-Length: 20000000\r\n\r\n".encode())
        assert plain.recv(12) == b"HTTP/1.1 401"
    eventually(lambda: any("was not believed" in str(each) for each in sender.running.client.today()["problems"]))
    assert sender.post(b'{"a": "' + b"x" * 200_000 + b'"}').status_code == (202 if not more else 401)


def test_what_is_signed_without_a_time_is_taken_once_whatever_id_it_comes_under(send: Callable[..., Sender]) -> None:
    sender = send(", sign: hmac, header: X-Sig")
    body = json.dumps(CALL).encode()
    proof = hmac.new(sender.secret.encode(), body, hashlib.sha256).hexdigest()
    sent = [("X-Sig", proof, "one"), ("X-Sig", f"sha256={proof}", "two"), ("X-Sig", proof, "three")]
    answers = [
        sender.http.post(sender.url, content=body, headers={"Content-Type": "application/json", name: value, "webhook-id": id_})
        for name, value, id_ in sent
    ]
    assert {each.json()["item"] for each in answers} == {answers[0].json()["item"]}
    other = body + b" "
    more = sender.http.post(
        sender.url,
        content=other,
        headers={"Content-Type": "application/json", "X-Sig": hmac.new(sender.secret.encode(), other, hashlib.sha256).hexdigest()},
    )
    assert more.json()["item"] != answers[0].json()["item"]


@pytest.mark.parametrize("at", ["²³", "1" * 30, "-1", "1e9", "١٢٣"])
def test_a_time_of_odd_digits_is_no_time(at: str, send: Callable[..., Sender]) -> None:
    sender = send()
    place = urlsplit(sender.url)
    with socket.create_connection((place.hostname or "", place.port or 80), timeout=10) as plain:
        head = f"POST {place.path} HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\nwebhook-id: a\r\nwebhook-signature: v1,a\r\nwebhook-timestamp: "
        plain.sendall(head.encode() + at.encode("utf-8") + b"\r\n\r\n{}")
        assert plain.recv(12) == b"HTTP/1.1 401"
