"""Transcription over HTTP: the multipart form (RFC 7578) that most speech servers take, at any base URL."""

from __future__ import annotations

from dataclasses import dataclass

import httpx

from metrikon.ports.transcription import HeardSoFar, TranscriptionDown, TranscriptionRefused

LARGEST_ANSWER = 20_000_000  # bytes
_MEDIA = {"wav": "audio/wav", "mp3": "audio/mpeg", "ogg": "audio/ogg", "flac": "audio/flac", "m4a": "audio/mp4"}


@dataclass(frozen=True)
class SpeechSettings:
    """Where the speech server is and how it is called."""

    url: str
    model: str = ""
    key: str = ""
    timeout: float = 300.0


class HttpTranscriber:
    """Posts a recording and takes the answer with its segments."""

    def __init__(self, settings: SpeechSettings, transport: httpx.BaseTransport | None = None) -> None:
        self.settings = settings
        self.name = settings.model or "transcription"
        headers = {"Authorization": f"Bearer {settings.key}"} if settings.key else {}
        timeout = httpx.Timeout(settings.timeout, connect=10.0)
        self._client = httpx.Client(transport=transport, timeout=timeout, headers=headers, follow_redirects=False, trust_env=False)
        self._url = settings.url.rstrip("/") + "/audio/transcriptions"

    def transcribe(self, data: bytes, format: str) -> bytes:
        """The answer as it came. Raises `TranscriptionDown` and `TranscriptionRefused`."""
        form = {"response_format": "verbose_json", "timestamp_granularities[]": "segment"} | (
            {"model": self.settings.model} if self.settings.model else {}
        )
        files = {"file": (f"recording.{format}", data, _MEDIA.get(format, "application/octet-stream"))}
        try:
            response = self._client.post(self._url, data=form, files=files)
        except httpx.TimeoutException as error:
            raise TranscriptionDown(f"The speech server at {self.settings.url} did not answer within {self.settings.timeout:g} seconds.") from error
        except httpx.HTTPError as error:
            raise TranscriptionDown(f"The speech server at {self.settings.url} cannot be reached: {error or type(error).__name__}.") from error
        if response.status_code in (408, 409, 425, 429) or response.status_code >= 500:
            raise TranscriptionDown(f"The speech server at {self.settings.url} answered {response.status_code}.")
        if response.status_code != 200:
            hint = " Check its key." if response.status_code in (401, 403) else " Check its address." if response.status_code == 404 else ""
            raise TranscriptionRefused(f"The speech server at {self.settings.url} refused the recording with {response.status_code}.{hint}")
        if len(response.content) > LARGEST_ANSWER:
            raise TranscriptionRefused(f"The speech server at {self.settings.url} answered with more than {LARGEST_ANSWER} bytes.")
        return response.content

    def so_far(self, sha256: str) -> HeardSoFar | None:
        """Not known: a speech server answers once, at the end."""
        return None

    def stop(self, sha256: str) -> None:
        """What was sent is answered, and the answer is dropped."""

    def done(self, sha256: str) -> None:
        """Nothing is kept here."""

    def close(self) -> None:
        """Let go of connections."""
        self._client.close()
