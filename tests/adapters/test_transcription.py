"""Recordings: sent to a speech server as a form, its answer read like any transcript and trusted as little."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from email import message_from_bytes
from pathlib import Path
from typing import Any

import httpx
import pytest

from metrikon.app.assemble import App
from metrikon.app.reading import transcriber_of
from metrikon.app.settings import Settings
from metrikon.core.documents.text import document_text
from metrikon.demo import scenario
from metrikon.ports.reader import Limits, Refused
from metrikon.ports.transcription import TranscriptionDown, TranscriptionRefused
from metrikon.readers.recording import heard
from metrikon.readers.registry import read
from metrikon.sandbox.model_server import ModelServer
from metrikon.transcription.http import HttpTranscriber, SpeechSettings
from metrikon.transcription.local import LocalTranscriber

NOTE = (scenario.post_folder() / "27-voice-note.wav").read_bytes()


@pytest.fixture
def ears() -> Iterator[ModelServer]:
    server = ModelServer(recordings=scenario.post_folder()).start()
    yield server
    server.stop()


def speech(answer: Callable[[httpx.Request], httpx.Response]) -> HttpTranscriber:
    return HttpTranscriber(SpeechSettings("http://speech.example/v1", "small", "secret"), httpx.MockTransport(answer))


def test_a_recording_goes_out_as_the_form_that_speech_servers_take() -> None:
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(200, json={"text": "hello"})

    speech(answer).transcribe(NOTE, "wav")
    (request,) = seen
    assert str(request.url) == "http://speech.example/v1/audio/transcriptions"
    assert request.headers["Authorization"] == "Bearer secret"
    form = message_from_bytes(b"Content-Type: " + request.headers["Content-Type"].encode() + b"\r\n\r\n" + request.read())
    inside: list[Any] = list(form.walk())[1:]
    fields = {part.get_param("name", header="content-disposition"): part for part in inside}
    assert fields["model"].get_payload(decode=True) == b"small"
    assert fields["response_format"].get_payload(decode=True) == b"verbose_json"
    assert fields["file"].get_filename() == "recording.wav"
    assert fields["file"].get_payload(decode=True) == NOTE


@pytest.mark.parametrize(
    ("given", "expected"),
    [
        (httpx.Response(503), TranscriptionDown),
        (httpx.Response(429), TranscriptionDown),
        (httpx.Response(401), TranscriptionRefused),
        (httpx.ConnectError("no"), TranscriptionDown),
        (httpx.ReadTimeout("late"), TranscriptionDown),
    ],
)
def test_a_failure_says_whether_trying_again_helps(given: httpx.Response | Exception, expected: type[Exception]) -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        if isinstance(given, Exception):
            raise given
        return given

    with pytest.raises(expected, match=r"speech\.example"):
        speech(answer).transcribe(NOTE, "wav")


def test_without_a_speech_server_a_recording_is_refused_with_what_to_do() -> None:
    with pytest.raises(Refused, match="transcription_url"):
        read(NOTE)


@pytest.mark.parametrize(
    "answer", [b"", b"no json", b"[1, 2]", b'{"segments": "x"}', b'{"text": null}', json.dumps({"segments": [{"text": 4}]}).encode()]
)
def test_an_answer_of_the_wrong_form_is_no_words_or_a_refusal(answer: bytes) -> None:
    try:
        found = heard(answer, "0" * 64, "wav", "speech", Limits())
    except Refused as error:
        assert "no JSON" in error.reason
    else:
        assert document_text(found) in ("", "4")


def test_a_voice_note_becomes_a_document_in_the_house(ears: ModelServer, house: Callable[..., App]) -> None:
    app = house(transcription_url=ears.url)
    sha256 = app.files.put(NOTE)
    found = app.workshop.summary(sha256)
    assert found.format == "wav"
    assert "stand-in" in found.warnings[0]
    document = app.workshop.read_document(sha256)
    assert [(said.start, said.text) for said in document.sentences][1] == (2300, "Please put it on the collecting budget.")
    picture, media = app.workshop.page_picture(document, 1, 110)
    assert media == "image/svg+xml"
    assert b"twine" in picture


def test_a_recording_is_heard_when_it_is_read_as_one_with_a_paper(ears: ModelServer, house: Callable[..., App]) -> None:
    app = house(transcription_url=ears.url)
    form = app.files.put(b"Expense form\nClaimed by Rufus Tarn\n")
    sha256 = app.workshop.together([("form.txt", form), ("note.wav", app.files.put(NOTE))])
    document = app.workshop.read_document(sha256)
    assert [page.part for page in document.pages] == ["form.txt", "note.wav"]
    assert "Rufus Tarn" in document_text(document)
    assert [said.text for said in document.sentences][1] == "Please put it on the collecting budget."
    assert sha256 == app.workshop.together([("form.txt", form), ("note.wav", app.files.put(NOTE))])  # the same files make the same bytes


def test_a_speech_engine_here_says_what_it_lacks(tmp_path: Path) -> None:
    with pytest.raises(TranscriptionRefused, match=r"model\.bin is missing"):
        LocalTranscriber(tmp_path).transcribe(NOTE, "wav")
    (tmp_path / "model.bin").write_bytes(b"")
    with pytest.raises(TranscriptionRefused, match=r"metrikon\[speech\]"):
        LocalTranscriber(tmp_path).transcribe(NOTE, "wav")
    assert isinstance(transcriber_of(Settings(transcription_folder=str(tmp_path))), LocalTranscriber)
