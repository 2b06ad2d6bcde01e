"""Chat completions over HTTP: the form that most model servers speak, at any base URL."""

from __future__ import annotations

import email.utils
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import httpx

from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.ports.model import ModelAnswer, ModelDown, ModelRefused, ModelRequest, Usage

LARGEST_ANSWER = 8_000_000  # bytes
LONGEST_WAIT = 30.0  # seconds a call waits by itself; longer waits are handed to the engine


@dataclass(frozen=True)
class ChatSettings:
    """Where the model is and how it is called."""

    url: str
    model: str
    key: str = ""
    timeout: float = 120.0
    attempts: int = 3
    first_wait: float = 0.5
    most_tokens: int = 8000
    at_once: int = 32


class ChatModel:
    """A language model behind an HTTP server. Calls are safe from several threads at once."""

    def __init__(
        self,
        settings: ChatSettings,
        name: str | None = None,
        transport: httpx.BaseTransport | None = None,
        sleep: Callable[[float], None] = time.sleep,
    ) -> None:
        self.settings = settings
        self.name = name or settings.model
        limits = httpx.Limits(max_connections=settings.at_once, max_keepalive_connections=settings.at_once)
        headers = {"Authorization": f"Bearer {settings.key}"} if settings.key else {}
        timeout = httpx.Timeout(settings.timeout, connect=10.0, pool=None)
        self._client = httpx.Client(transport=transport, timeout=timeout, limits=limits, headers=headers, follow_redirects=False, trust_env=False)
        self._url = settings.url.rstrip("/") + "/chat/completions"
        self._gate = threading.BoundedSemaphore(settings.at_once)
        self._sleep = sleep

    def answer(self, request: ModelRequest) -> ModelAnswer:
        """One answer, after at most `attempts` tries; waits as the server asks."""
        body = dumps(self._body(request))
        start = time.perf_counter()
        for attempt in range(1, self.settings.attempts + 1):
            try:
                with self._gate:
                    return self._once(body, start, attempt)
            except ModelDown as error:
                wait = error.wait if error.wait is not None else self.settings.first_wait * 2 ** (attempt - 1)
                if attempt == self.settings.attempts or wait > LONGEST_WAIT:
                    raise
                self._sleep(wait)
        raise AssertionError("unreachable")

    def close(self) -> None:
        """Let go of connections."""
        self._client.close()

    def _body(self, request: ModelRequest) -> dict[str, Any]:
        return {
            "model": self.settings.model,
            "messages": request.messages,
            "temperature": 0,
            "max_tokens": self.settings.most_tokens,
            "response_format": {"type": "json_schema", "json_schema": {"name": "record", "schema": request.kind.asked}},
        }

    def _once(self, body: bytes, start: float, attempt: int) -> ModelAnswer:
        try:
            response = self._client.post(self._url, content=body, headers={"Content-Type": "application/json"})
        except httpx.TimeoutException as error:
            raise ModelDown(f"The model {self.name} at {self.settings.url} did not answer within {self.settings.timeout:g} seconds.") from error
        except httpx.HTTPError as error:
            raise ModelDown(f"The model {self.name} at {self.settings.url} cannot be reached: {error or type(error).__name__}.") from error
        _raise_for(response, self.name)
        text, counted = _content(response, self.name)
        usage = Usage(int(counted.get("prompt_tokens") or 0), int(counted.get("completion_tokens") or 0), attempt, time.perf_counter() - start)
        return ModelAnswer(text, usage)


def _raise_for(response: httpx.Response, name: str) -> None:
    status = response.status_code
    if status == 200:
        return
    if status in (408, 409, 425, 429) or status >= 500:
        raise ModelDown(f"The model {name} answered {status} ({_said(response)}).", _retry_after(response))
    hint = " Check its key." if status in (401, 403) else " Check its address and name." if status == 404 else ""
    raise ModelRefused(f"The model {name} refused the request with {status} ({_said(response)}).{hint}")


def _said(response: httpx.Response) -> str:
    try:
        error = loads(response.content[:20000]).get("error")
        text = error.get("message") if isinstance(error, dict) else error
    except (NotJson, AttributeError):
        text = None
    return str(text or response.reason_phrase or "no reason given")[:200]


def _retry_after(response: httpx.Response) -> float | None:
    """Seconds of a `Retry-After` header, given as a number or a date (RFC 9110, 10.2.3)."""
    given = response.headers.get("Retry-After", "")
    if given.isdigit():
        return min(float(given), 86400.0)
    try:
        return max(0.0, min(email.utils.parsedate_to_datetime(given).timestamp() - time.time(), 86400.0))
    except (ValueError, TypeError):
        return None


def _content(response: httpx.Response, name: str) -> tuple[str, dict[str, Any]]:
    if len(response.content) > LARGEST_ANSWER:
        raise ModelRefused(f"The model {name} answered with more than {LARGEST_ANSWER} bytes.")
    try:
        data = loads(response.content)
        text = data["choices"][0]["message"]["content"]
        usage = data.get("usage") or {}
    except (NotJson, KeyError, IndexError, TypeError, AttributeError) as error:
        raise ModelDown(f"The model {name} answered with something that is no chat completion.") from error
    return str(text or ""), usage if isinstance(usage, dict) else {}
