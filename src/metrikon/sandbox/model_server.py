"""The stand-in model server: speaks chat completions, counts tokens, and misbehaves when told to.

It takes pictures and counts what they would cost, but answers from words alone; told to be blind, it refuses them.

POST /v1/chat/completions     answers any prompt that carries a document and a schema
GET  /v1/models               its one model, "stand-in"
POST /v1/audio/transcriptions returns the text stored beside a recording of the demo, and says that it does
POST /misbehave               {"kinds": [...], "rate": 0..1, "times": n, "wait": seconds, "obey": true or false, "blind": true or false,
                              "unsure": names of fields, "answer": what it says whatever it is asked, or null}
GET  /misbehave               what is set, and how many calls came
"""

from __future__ import annotations

import base64
import json
import math
import random
import re
import socket
import threading
import time
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from metrikon.sandbox.answering import Answering, find_parts
from metrikon.sandbox.judging import judged

NAME = "stand-in"
PIECE = 200  # characters of an answer that are sent at a time
HTTP_KINDS = ("429", "500", "hang", "cut")
TEXT_KINDS = ("fences", "prose", "truncated", "wrong types", "invented", "missing", "nonsense", "loop")
KINDS = (*HTTP_KINDS, *TEXT_KINDS)


@dataclass
class Mood:
    """How the server behaves: which kinds of misbehaviour, how often, how many times more (-1: no end)."""

    kinds: tuple[str, ...] = ()
    rate: float = 1.0
    times: int = -1
    wait: float = 0.0  # seconds a good answer takes
    retry_after: int = 1
    hang: float = 30.0
    obey: bool = False  # follows orders that stand in documents
    blind: bool = False  # refuses pictures
    unsure: tuple[str, ...] = ()  # names of fields: it tells how sure it is of its words, and is not sure of these
    answer: dict[str, Any] | None = None  # what it says whatever it is asked
    pictures: int = 0  # that were shown to it
    calls: int = 0
    sent: int = 0  # pieces of streamed answers
    dice: random.Random = field(default_factory=lambda: random.Random(7))
    lock: threading.Lock = field(default_factory=threading.Lock)

    def next_kind(self) -> str | None:
        """The misbehaviour of this call, or None for a good answer."""
        with self.lock:
            self.calls += 1
            if not self.kinds or self.times == 0 or self.dice.random() >= self.rate:
                return None
            self.times -= 1 if self.times > 0 else 0
            return self.dice.choice(self.kinds)


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    request_queue_size = 128

    def __init__(self, address: tuple[str, int], mood: Mood, recordings: Path | None) -> None:
        super().__init__(address, _Handler)
        self.mood = mood
        self.recordings = recordings

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A caller that went away is no error of ours."""


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: _Server

    def log_message(self, format: str, *args: Any) -> None:
        """Quiet."""

    def do_GET(self) -> None:
        if self.path == "/v1/models":
            self._send(200, {"object": "list", "data": [{"id": NAME, "object": "model", "owned_by": "sandbox"}]})
        elif self.path == "/misbehave":
            mood = self.server.mood
            self._send(
                200, {"kinds": mood.kinds, "rate": mood.rate, "times": mood.times, "wait": mood.wait, "calls": mood.calls, "pictures": mood.pictures}
            )
        else:
            self._send(404, {"error": {"message": f"There is nothing at {self.path}."}})

    def do_POST(self) -> None:
        given = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        if self.path == "/v1/audio/transcriptions":
            self._hear(given)
            return
        try:
            body = json.loads(given or b"{}")
        except ValueError:
            self._send(400, {"error": {"message": "The body is no JSON."}})
            return
        if self.path == "/misbehave":
            self._misbehave(body)
        elif self.path == "/v1/chat/completions":
            self._complete(body)
        else:
            self._send(404, {"error": {"message": f"There is nothing at {self.path}."}})

    def _hear(self, form: bytes) -> None:
        """It does not hear: a recording of the demo gets the text that is stored beside it."""
        kind = self.server.mood.next_kind()
        if kind in ("429", "500"):
            self._send(int(kind), {"error": {"message": "Not now."}}, {"Retry-After": str(self.server.mood.retry_after)})
            return
        for path in self.server.recordings.glob("*.said.json") if self.server.recordings else ():
            if path.with_name(path.name.removesuffix(".said.json")).read_bytes() in form:
                self._send(200, {**json.loads(path.read_text("utf-8")), "stand_in": True})
                return
        self._send(400, {"error": {"message": "The stand-in cannot hear; it knows the recordings of the demo only."}})

    def _misbehave(self, body: dict[str, Any]) -> None:
        unknown = [kind for kind in body.get("kinds", ()) if kind not in KINDS]
        if unknown:
            self._send(400, {"error": {"message": f"Unknown: {', '.join(unknown)}. Known: {', '.join(KINDS)}."}})
            return
        mood = self.server.mood
        with mood.lock:
            mood.kinds = tuple(body.get("kinds", ()))
            mood.rate, mood.times = float(body.get("rate", 1)), int(body.get("times", -1))
            mood.wait, mood.hang = float(body.get("wait", mood.wait)), float(body.get("hang", mood.hang))
            mood.obey, mood.blind = bool(body.get("obey", mood.obey)), bool(body.get("blind", mood.blind))
            mood.unsure, mood.answer = tuple(body.get("unsure", mood.unsure)), body.get("answer", mood.answer)
            mood.retry_after = int(body.get("retry_after", mood.retry_after))
        self._send(200, {"set": True})

    def _complete(self, body: dict[str, Any]) -> None:
        mood = self.server.mood
        kind = mood.next_kind()
        if mood.wait:
            time.sleep(mood.wait)
        if kind == "429":
            self._send(429, {"error": {"message": "Too many requests; wait."}}, {"Retry-After": str(mood.retry_after)})
        elif kind == "500":
            self._send(500, {"error": {"message": "Something broke inside."}})
        elif kind == "hang":
            time.sleep(mood.hang)
            self.close_connection = True
        elif kind == "cut":
            self._cut()
        else:
            self._good(body, kind)

    def _cut(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", "5000")
        self.end_headers()
        self.wfile.write(b'{"choices": [{"mess')
        self.wfile.flush()
        self.connection.shutdown(socket.SHUT_RDWR)
        self.close_connection = True

    def _good(self, body: dict[str, Any], kind: str | None) -> None:
        try:
            messages, shown = seen(body.get("messages") or [])
        except ValueError as error:
            self._send(400, {"error": {"message": f"A picture cannot be taken: {error}"}})
            return
        if shown and self.server.mood.blind:
            self._send(400, {"error": {"message": "This model takes text only: content must be a string."}})
            return
        with self.server.mood.lock:
            self.server.mood.pictures += len(shown)
        document, schema = find_parts(messages, body.get("response_format"))
        if schema is None:
            text = "I need a document and a JSON Schema to answer."
        else:
            mood = self.server.mood
            head = "\n".join(str(each.get("content", "")) for each in messages).partition("<document>\n")[0]
            text = _spoiled(kind, mood.answer or judged(head, document, schema) or Answering(document, schema, mood.obey).answer(), mood.dice)
            text = text[: 4 * int(body.get("max_tokens") or 4000)] if kind == "loop" else text
        asked = sum(len(str(m.get("content", ""))) for m in messages) // 4 + sum(width * height // 750 for width, height in shown)
        usage = {"prompt_tokens": asked, "completion_tokens": len(text) // 4, "total_tokens": asked + len(text) // 4}
        if body.get("stream"):
            self._stream(text, usage)
            return
        choice = {"index": 0, "message": {"role": "assistant", "content": text}, "finish_reason": "length" if kind == "truncated" else "stop"}
        self._send(200, {"id": "stand-in", "object": "chat.completion", "model": NAME, "choices": [choice], "usage": usage})

    def _stream(self, text: str, usage: dict[str, int]) -> None:
        """The same answer in pieces, as server-sent events."""
        self.send_response(200)
        self.send_header("Content-Type", "text/event-stream")
        self.send_header("Transfer-Encoding", "chunked")
        self.end_headers()
        unsure = self.server.mood.unsure
        pieces = _told(text, unsure) if unsure else [(text[at : at + PIECE], None) for at in range(0, len(text), PIECE)]
        parts: list[dict[str, Any]] = [
            {"choices": [{"index": 0, "delta": {"content": piece}, "finish_reason": None, **({"logprobs": told} if told else {})}]}
            for piece, told in pieces
        ]
        try:
            for part in [*parts, {"choices": [], "usage": usage}]:
                self._chunk(json.dumps(part, ensure_ascii=False))
                with self.server.mood.lock:
                    self.server.mood.sent += 1
            self._chunk("[DONE]")
            self.wfile.write(b"0\r\n\r\n")
        except OSError:
            self.close_connection = True  # whoever asked has heard enough

    def _chunk(self, event: str) -> None:
        data = f"data: {event}\n\n".encode()
        self.wfile.write(f"{len(data):x}\r\n".encode() + data + b"\r\n")

    def _send(self, status: int, data: Any, headers: dict[str, str] | None = None) -> None:
        payload = json.dumps(data, ensure_ascii=False).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(payload)))
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(payload)


def seen(messages: list[dict[str, Any]]) -> tuple[list[dict[str, Any]], list[tuple[int, int]]]:
    """Messages with their text alone, and the size of each picture in them. Raises ValueError for what is no PNG in a data URL."""
    plain, sizes = [], []
    for message in messages:
        content = message.get("content")
        if not isinstance(content, list):
            plain.append(message)
            continue
        plain.append({**message, "content": "\n".join(str(part.get("text", "")) for part in content if part.get("type") == "text")})
        for part in content:
            if part.get("type") == "image_url":
                head, _, body = str(part["image_url"]["url"]).partition(",")
                data = base64.b64decode(body, validate=True)
                if head != "data:image/png;base64" or data[:8] != b"\x89PNG\r\n\x1a\n":
                    raise ValueError("it is no PNG in a data URL.")
                sizes.append((int.from_bytes(data[16:20], "big"), int.from_bytes(data[20:24], "big")))
    return plain, sizes


def _spoiled(kind: str | None, answer: Any, dice: random.Random) -> str:
    """The answer as text, spoiled in one way."""
    text = json.dumps(answer, ensure_ascii=False)
    if kind == "fences":
        return f"```json\n{json.dumps(answer, indent=2, ensure_ascii=False)}\n```"
    if kind == "prose":
        return f"Sure, here is what I found in the document:\n\n{text}\n\nLet me know if you need more."
    if kind == "truncated":
        return text[: max(2, len(text) * 2 // 3)]
    if kind == "loop":  # it says the last of its answer again and again
        return text[:-1] + (text[1:-1][-300:] if len(text) > 40 else ', "again": "and again"') * 400
    if kind == "nonsense":
        return "I am sorry, I could not read the document."
    if kind in ("wrong types", "invented", "missing") and isinstance(answer, dict) and answer:
        return json.dumps(_changed(kind, dict(answer), dice), ensure_ascii=False)
    return text


def _told(text: str, unsure: tuple[str, ...]) -> list[tuple[str, dict[str, Any] | None]]:
    """An answer in words, each with the logarithm of its probability."""
    words = re.findall(r'"(?:[^"\\]|\\.)*"|[^"]+', text)
    names = {json.dumps(name) for name in unsure}
    doubted = [words[at - 1] in names or (at > 1 and words[at - 2] in names and ":" in words[at - 1]) for at in range(len(words))]
    chances = [math.log(0.3 if doubt else 0.99) for doubt in doubted]
    return [(word, {"content": [{"token": word, "logprob": chance}]}) for word, chance in zip(words, chances, strict=True)]


def _changed(kind: str, answer: dict[str, Any], dice: random.Random) -> dict[str, Any]:
    names = [name for name, value in answer.items() if not isinstance(value, list | dict)]
    if not names:
        return answer
    name = dice.choice(names)
    if kind == "missing":
        del answer[name]
    elif kind == "wrong types":
        for key in names:
            answer[key] = str(answer[key]) if isinstance(answer[key], int | float) else answer[key]
        answer[name] = [answer[name]]
    else:
        old = answer[name]
        answer[name] = (
            round(float(old) + 137.31, 2)
            if isinstance(old, int | float)
            else "2019-02-11"
            if "date" in name
            else f"QX-{dice.randrange(10000, 99999)}"
        )
    return answer


class ModelServer:
    """The stand-in as an object: `start`, `url`, `mood`, `stop`. `recordings`: folder of recordings with their texts beside them."""

    def __init__(self, port: int = 0, host: str = "127.0.0.1", recordings: Path | None = None) -> None:
        self.mood = Mood()
        self._server = _Server((host, port), self.mood, recordings)
        self.port = int(self._server.server_address[1])
        self.url = f"http://{host}:{self.port}/v1"
        self._thread = threading.Thread(target=self._server.serve_forever, kwargs={"poll_interval": 0.1}, name="stand-in", daemon=True)

    def start(self) -> ModelServer:
        """Answer requests from now on."""
        self._thread.start()
        return self

    def stop(self) -> None:
        """Stop answering."""
        self._server.shutdown()
        self._server.server_close()
        self._thread.join(5)
