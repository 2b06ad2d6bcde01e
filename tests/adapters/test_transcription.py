"""Recordings: sent to a speech server as a form, its answer read like any transcript and trusted as little."""

from __future__ import annotations

import hashlib
import importlib.util
import io
import json
import os
import subprocess
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
from metrikon.cli import main
from metrikon.client import HeardSoFar as SoFar
from metrikon.core.documents.text import document_text
from metrikon.demo import scenario
from metrikon.ports.reader import Limits, Refused
from metrikon.ports.transcription import HeardSoFar, TranscriptionDown, TranscriptionRefused
from metrikon.readers.recording import heard
from metrikon.readers.registry import read
from metrikon.sandbox.model_server import ModelServer
from metrikon.transcription.http import HttpTranscriber, SpeechSettings
from metrikon.transcription.local import LocalTranscriber
from metrikon.transcription.pieces import RATE, Heard, cuts
from tests.helpers import Running, eventually, run_state

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


def test_a_recording_that_came_while_nobody_could_hear_goes_on_when_somebody_can(ears: ModelServer, house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow('metrikon: 1\nname: notes\nintakes: [{kind: upload}]\nsteps:\n  - {name: talk, read: {file: "${item.file}"}}\n')
    app.start()
    run = app.arrivals.take("notes", "upload", None, "note.wav", NOTE).run_id
    assert eventually(lambda: run_state(app, run)[0] == "parked")
    assert "note.wav cannot be read yet. The file is a recording." in run_state(app, run)[1]
    app.close()
    again = house(transcription_url=ears.url)
    again.start()
    assert eventually(lambda: run_state(again, run)[0] == "done")


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
    told: list[HeardSoFar] = []
    kept = tmp_path / "heard"
    ears = LocalTranscriber(tmp_path, kept=kept.joinpath, told=told.append)
    ears.command = (sys.executable, "-c", EARS)
    sha256 = hashlib.sha256(NOTE).hexdigest()
    assert ears.so_far(sha256) is None
    with pytest.raises(TranscriptionDown, match="2 pieces were heard and are kept"):
        ears.transcribe(NOTE, "wav")
    assert ears.so_far(sha256) == HeardSoFar(240.0, 2, 4)
    answer = json.loads(ears.transcribe(NOTE, "wav"))
    assert [each["text"] for each in answer["segments"]] == [f"bed {number} is dug" for number in range(4)]
    assert [(far.pieces, far.in_all) for far in told] == [(1, 4), (2, 4), (3, 4), (4, 4)]  # none was heard twice
    assert json.loads(ears.transcribe(NOTE, "wav")) == answer  # killed before the answer was kept: not heard again
    assert len(told) == 4
    ears.done(sha256)
    assert not list(kept.iterdir())  # and nothing is left


def test_what_another_model_has_heard_is_not_taken_over(tmp_path: Path) -> None:
    (tmp_path / "model.bin").write_bytes(b"")
    ears = LocalTranscriber(tmp_path, kept=tmp_path.joinpath)
    ears.command = (sys.executable, "-c", EARS)
    with pytest.raises(TranscriptionDown):
        ears.transcribe(NOTE, "wav")
    (tmp_path / "model.bin").write_bytes(b"larger")
    assert ears.so_far(hashlib.sha256(NOTE).hexdigest()) is None


def test_what_was_heard_of_a_recording_goes_with_its_file(tmp_path: Path, house: Callable[..., App]) -> None:
    (tmp_path / "model.bin").write_bytes(b"")
    app = house(transcription_folder=str(tmp_path))
    assert isinstance(app.transcriber, LocalTranscriber)
    app.transcriber.command = (sys.executable, "-c", EARS)
    sha256 = app.files.put(NOTE)
    with pytest.raises(TranscriptionDown):
        app.workshop.summary(sha256)
    assert app.transcriber.so_far(sha256) == HeardSoFar(240.0, 2, 4)
    app.files.remove(sha256)
    assert app.transcriber.so_far(sha256) is None
    assert not list((app.home / "derived").rglob("*.heard"))
    app.files.put(NOTE)
    with pytest.raises(TranscriptionDown):
        app.workshop.summary(sha256)
    assert "bed 3 is dug" in document_text(app.workshop.read_document(sha256))
    assert not list((app.home / "derived").rglob("*.heard"))  # it is kept as the document now


SLOW_EARS = EARS.replace("os.kill(os.getpid(), 9)", "import time; time.sleep(600)")


def test_how_far_a_recording_is_is_told_at_its_run(tmp_path: Path, running: Callable[..., Running]) -> None:
    (tmp_path / "model.bin").write_bytes(b"")
    service = running(transcription_folder=str(tmp_path))
    assert isinstance(service.app.transcriber, LocalTranscriber)
    service.app.transcriber.command = (sys.executable, "-c", SLOW_EARS)
    sent = service.client.upload(scenario.FLOW, NOTE, name="walk.wav")
    run = eventually(lambda: found if (found := service.client.run(sent.run_id)).heard and found.heard.pieces == 2 else None)
    assert (run.state, run.heard) == ("running", SoFar(240.0, 2, 4))
    out = io.StringIO()
    main(["runs", "show", sent.run_id, "--url", service.url, "--token", service.token], out=out)
    assert "heard 4:00 of the recording (piece 2 of 4)" in out.getvalue()
    subprocess.run(["pkill", "-9", "-f", "import time; time.sleep.600"], check=True)
    assert service.client.wait(sent.run_id).heard is None  # it went on after the two, and is heard to its end
    assert "bed 3 is dug" in document_text(service.app.workshop.read_document(service.app.files.put(NOTE)))


def test_a_cancelled_run_is_heard_no_further_and_nothing_heard_comes_back_after_it_is_forgotten(
    tmp_path: Path, running: Callable[..., Running]
) -> None:
    (tmp_path / "model.bin").write_bytes(b"")
    service = running(transcription_folder=str(tmp_path))
    ears = service.app.transcriber
    assert isinstance(ears, LocalTranscriber)
    ears.command = (sys.executable, "-c", SLOW_EARS)
    sent = service.client.upload(scenario.FLOW, NOTE, name="walk.wav")
    eventually(lambda: (far := service.client.run(sent.run_id).heard) and far.pieces == 2)
    sha256 = hashlib.sha256(NOTE).hexdigest()
    (process,) = ears._under_way.values()
    service.client.cancel(sent.run_id)
    eventually(lambda: process.poll() is not None, 5)
    assert ears.so_far(sha256) == HeardSoFar(240.0, 2, 4)  # kept, in case it is run again
    service.app.forgetting.forget([sent.item_id], "gardener")
    assert not list((service.app.home / "derived").rglob(f"{sha256}*"))


def test_pieces_that_are_removed_while_a_recording_is_heard_stay_removed(tmp_path: Path) -> None:
    (tmp_path / "model.bin").write_bytes(b"")
    place = hashlib.sha256(NOTE).hexdigest()
    here: LocalTranscriber = LocalTranscriber(tmp_path, kept=tmp_path.joinpath, told=lambda far: here.done(place) if far.pieces == 1 else None)
    here.command = (sys.executable, "-c", EARS.replace("os.kill(os.getpid(), 9)", "pass"))
    with pytest.raises(TranscriptionDown, match="was removed while it was heard"):
        here.transcribe(NOTE, "wav")
    assert [each.name for each in tmp_path.iterdir()] == ["model.bin"]


ENGINE = {
    "__init__.py": "import time\nclass WhisperModel:\n    def __init__(self, *a, **k): pass\n    def transcribe(self, *a, **k): time.sleep(600)\n",
    "audio.py": "import numpy\ndef decode_audio(*a, **k): return numpy.zeros(16000)\n",
}
ASKING = """
import os, subprocess, sys, time
child = subprocess.Popen([sys.executable, "-m", "metrikon.transcription.hearing", ".", "0", ""], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
print(child.pid, flush=True)
time.sleep(2)
os.kill(os.getpid(), 9)
"""


def test_hearing_ends_with_whoever_asked_for_it(tmp_path: Path) -> None:
    (tmp_path / "faster_whisper").mkdir()
    for name, text in ENGINE.items():
        (tmp_path / "faster_whisper" / name).write_text(text)
    there = {**os.environ, "PYTHONPATH": os.pathsep.join([str(tmp_path), *filter(None, [os.environ.get("PYTHONPATH")])])}
    asked = subprocess.run([sys.executable, "-c", ASKING], stdout=subprocess.PIPE, env=there, check=False)
    eventually(lambda: not Path(f"/proc/{int(asked.stdout)}").exists(), 10)


def test_a_piece_that_was_half_written_is_heard_again(tmp_path: Path) -> None:
    place = tmp_path / "heard"
    pieces: list[dict[str, Any]] = [{"piece": n, "of": 2, "until": n + 1.0, "language": "de", "segments": []} for n in (0, 1)]
    begun = Heard(place)
    begun.begin()
    begun.keep(pieces[0])
    with place.open("a") as out:
        out.write('{"piece": 1, "of"')
    again = Heard(place)
    assert again.pieces == pieces[:1]
    assert again.language == "de"
    assert not again.complete
    again.keep(pieces[1])
    assert Heard(place).pieces == pieces


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
