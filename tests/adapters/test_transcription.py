"""Recordings: sent to a speech server as a form, its answer read like any transcript and trusted as little."""

from __future__ import annotations

import importlib.util
import json
import sys
from collections.abc import Callable, Iterator
from email import message_from_bytes
from pathlib import Path
from typing import Any

import httpx
import numpy as np
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
from metrikon.transcription.pieces import RATE, Heard, cuts

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
    lacks = r"cannot be used" if importlib.util.find_spec("faster_whisper") else r"metrikon\[speech\]"
    with pytest.raises(TranscriptionRefused, match=lacks):
        LocalTranscriber(tmp_path).transcribe(NOTE, "wav")
    assert isinstance(transcriber_of(Settings(transcription_folder=str(tmp_path))), LocalTranscriber)


EARS = """
import json, os, sys
data = sys.stdin.buffer.read()
for number in range(int(sys.argv[2]), 4):
    if number == 2 and sys.argv[2] == "0":
        os.kill(os.getpid(), 9)
    said = {"start": number * 120.0, "end": number * 120.0 + 2, "text": f"bed {number} is dug", "words": [{"word": "bed", "probability": 0.9}]}
    print(json.dumps({"piece": number, "of": 4, "until": (number + 1) * 120.0, "language": sys.argv[3] or "en", "segments": [said]}), flush=True)
"""


def test_a_long_recording_goes_on_after_the_last_piece_that_was_heard_before_a_kill(tmp_path: Path) -> None:
    (tmp_path / "model.bin").write_bytes(b"")
    told: list[tuple[float, int, int]] = []
    ears = LocalTranscriber(tmp_path, kept=tmp_path / "heard", told=lambda *far: told.append(far))
    ears.command = (sys.executable, "-c", EARS)
    with pytest.raises(TranscriptionDown, match="2 pieces were heard and are kept"):
        ears.transcribe(NOTE, "wav")
    answer = json.loads(ears.transcribe(NOTE, "wav"))
    assert [each["text"] for each in answer["segments"]] == [f"bed {number} is dug" for number in range(4)]
    assert [far[1:] for far in told] == [(1, 4), (2, 4), (3, 4), (4, 4)]  # none was heard twice
    assert not list((tmp_path / "heard").iterdir())  # and nothing is left


def test_a_piece_that_was_half_written_is_heard_again(tmp_path: Path) -> None:
    heard = Heard(tmp_path)
    heard.keep({"piece": 0, "of": 2, "until": 1.0, "language": "de", "segments": []})
    (tmp_path / "00001.json").write_text('{"piece": 1, "of"')
    again = Heard(tmp_path)
    assert len(again.pieces) == 1
    assert again.language == "de"
    assert not again.complete


def test_a_recording_is_cut_where_it_is_quiet_and_no_sample_is_lost() -> None:
    samples = np.ones(RATE * 300, dtype="float32")
    for quiet in (110, 215):
        samples[RATE * quiet : RATE * quiet + RATE] = 0.001
    found = cuts(samples)
    assert [begin for begin, _ in found] == [0, *(end for _, end in found[:-1])]
    assert found[-1][1] == len(samples)
    assert 110 <= found[0][1] / RATE <= 111
    assert 215 <= found[1][1] / RATE <= 216


def test_what_was_heard_unsurely_is_known_word_by_word() -> None:
    words = [{"word": w, "probability": p} for w, p in ((" Send", 0.9), (" 4", 0.35), ("2", 0.8), (" ferns,", 0.95), (" Fern", 0.4), ("hill", 0.7))]
    answer = {
        "segments": [
            {"start": 0, "end": 2, "text": "Hello there.", "words": []},
            {"start": 2, "end": 4, "text": "Send 42 ferns, Fernhill", "words": words},
        ]
    }
    document = heard(json.dumps(answer).encode(), "0" * 64, "wav", "ears", Limits())
    (page,) = document.pages
    assert {word.text: word.sure for word in page.words if word.sure < 1} == {"Send": 0.9, "42": 0.35, "ferns,": 0.95, "Fernhill": 0.4}


@pytest.mark.parametrize("broken", [{"words": "none"}, {"words": [1, {"word": 5}]}, {"words": [{"word": "Send", "probability": "much"}]}, {}])
def test_words_of_a_transcription_that_make_no_sense_are_left_out(broken: dict[str, Any]) -> None:
    rows = [{"start": 0, "end": 1, "text": "Hello there."}, {"start": 1, "end": 2, "text": "Send ferns.", **broken}]
    document = heard(json.dumps({"segments": rows}).encode(), "0" * 64, "wav", "ears", Limits())
    assert all(word.sure == 1 for word in document.pages[0].words)
