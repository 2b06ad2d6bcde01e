"""`metrikon classify`, `judge` and `compare` on files, without a service."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from metrikon.sandbox.model_server import ModelServer
from tests.service.test_cli import BROKEN, run

LETTER = "Ida Wren\nThe glasshouse was closed again.\nI want my money back for the tickets.\n"
CRITERIA = """
criteria:
  - {name: ferns, about: Has raised ferns., marks: {0: none, 1: some, 2: many}, weight: 2}
  - {name: groups, about: Has led groups., marks: {0: none, 1: some}}
labels: {unfit: 0, possible: 50, ideal: 90}
"""


@pytest.fixture
def letter(tmp_path: Path) -> str:
    path = tmp_path / "letter.txt"
    path.write_text(LETTER, "utf-8")
    return str(path)


def by(stand_in: ModelServer) -> tuple[str, ...]:
    return "--model-url", stand_in.url, "--model", "stand-in"


def test_a_file_is_sorted_with_the_words_that_it_rests_on(letter: str, stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "I want my money back", "label": "complaint"}
    labels = ("--label", "complaint=Somebody complains.", "--label", "booking=Somebody books.")
    code, out, _ = run("classify", letter, *labels, *by(stand_in))
    assert code == 0
    assert out.startswith("complaint, 90 % sure\n")
    assert "page 1: I want my money back" in out
    assert "warn: A stand-in answered" in out
    code, out, _ = run("classify", letter, *labels, *by(stand_in), "--second-reading", "--json")
    told = json.loads(out)
    assert (told["outcome"], told["asked"], told["needs_person"]) == ("complaint", 2, False)
    stand_in.mood.answer = {"words": "We are glad", "label": "booking"}
    code, out, _ = run("classify", letter, *labels, *by(stand_in))
    assert code == 3
    assert "stop: booking: 35 % sure" in out


def test_what_would_be_asked_can_be_read_word_by_word_and_nothing_is_asked(letter: str, stand_in: ModelServer) -> None:
    code, out, _ = run("classify", letter, "--question", "refund=Do they want money back?", "--prompt")
    assert code == 0
    assert "- refund: Do they want money back?" in out
    assert "The glasshouse was closed again." in out
    assert "1 request of" in out
    assert stand_in.mood.calls == 0


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ((), "Give either labels"),
        (("--label", "a=b"), "One label alone tells nothing"),
        (("--label", "a=b", "--label", "a=c"), "--label a is given twice"),
        (("--question", "=b"), "is not NAME=MEANING"),
        (("--question", "a=b"), "The pattern reader judges nothing"),
        (("--question", "a=b", "--second-reading", "nobody"), "There is no model 'nobody'"),
    ],
)
def test_what_cannot_be_sorted_is_told(options: tuple[str, ...], said: str, letter: str) -> None:
    code, out, err = run("classify", letter, *options)
    assert (code, out) == (2, "")
    assert said in err


@pytest.mark.parametrize("share", ["7", "-1", "nan", "much"])
def test_a_share_that_is_none_is_told_by_both_commands(share: str, letter: str, capsys: pytest.CaptureFixture[str]) -> None:
    for command in (["classify", letter, "--question", "a=b"], ["compare", letter, letter]):
        with pytest.raises(SystemExit) as ended:
            run(*command, f"--least={share}")
        assert ended.value.code == 2
        assert f"'{share}' is no share from 0 to 1" in capsys.readouterr().err


def test_files_are_marked_and_the_best_comes_first(letter: str, tmp_path: Path, stand_in: ModelServer) -> None:
    criteria, other = tmp_path / "criteria.yaml", tmp_path / "other.txt"
    criteria.write_text(CRITERIA, "utf-8")
    other.write_text("Ada Fenwick\nShe raised many ferns.\nLed twelve groups.\n", "utf-8")
    code, out, err = run("judge", letter, str(other), "--criteria", str(criteria), *by(stand_in))
    assert code == 0
    lines = out.splitlines()
    assert lines[1].startswith("other.txt")
    assert lines[2].startswith("letter.txt")
    assert "2 of 2: other.txt" in err
    code, out, _ = run("judge", str(other), "--criteria", str(criteria), *by(stand_in))
    assert "not shown to the model: name; sex" in out
    assert "page 1: " in out
    code, out, _ = run("judge", str(other), letter, "--criteria", str(criteria), *by(stand_in), "--json")
    assert [each["file"] for each in json.loads(out)] == ["other.txt", "letter.txt"]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "holds no criteria"),
        ("criteria: [", "cannot be read"),
        (CRITERIA.replace("unfit: 0", "unfit: 5"), "labels: One label must hold from 0"),
        (CRITERIA.replace("weight: 2", "wait: 2"), "'wait' is not known here"),
        ("labels: {a: 0, b: 1}", "criteria: It is missing"),
    ],
)
def test_criteria_that_cannot_be_used_are_told(text: str, said: str, letter: str, tmp_path: Path) -> None:
    criteria = tmp_path / "criteria.yaml"
    criteria.write_text(text, "utf-8")
    code, out, err = run("judge", letter, "--criteria", str(criteria))
    assert (code, out) == (2, "")
    assert said in err


def test_two_files_are_compared_and_without_words_of_what_matters_no_model_is_needed(letter: str, tmp_path: Path, stand_in: ModelServer) -> None:
    now = tmp_path / "now.txt"
    now.write_text(LETTER.replace("again", "for 12 days").upper(), "utf-8")
    code, out, _ = run("compare", letter, str(now))
    assert code == 0
    assert "! The glasshouse was closed again.  →  THE GLASSHOUSE WAS CLOSED FOR 12 DAYS." in out
    assert "It was worked out without asking a model." in out
    code, out, _ = run("compare", letter, letter, "--matters", "days")
    assert out.startswith("same, 100 % sure")
    stand_in.mood.answer = {"1": {"why": "days", "material": "yes"}}
    code, out, _ = run("compare", letter, str(now), "--matters", "days", *by(stand_in))
    assert out.startswith("material, 80 % sure")
    assert "(days)" in out


def test_a_file_that_cannot_be_read_is_not_judged(letter: str) -> None:
    for command in (["classify", BROKEN, "--question", "a=b", "--prompt"], ["compare", letter, BROKEN], ["compare", BROKEN, letter]):
        code, out, err = run(*command)
        assert (code, out) == (2, "")
        assert err.startswith("metrikon: ")
