"""Transcripts: what stands before the talk is kept, and JSON of any service is understood by its values."""

from __future__ import annotations

import json

from metrikon.core.documents.text import document_text
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.said import Said
from metrikon.readers.registry import read


def test_the_notes_of_a_webvtt_file_say_when_it_was_recorded() -> None:
    document = read(b"WEBVTT - visitor line\n\nNOTE\nrecorded 2026-03-02T09:10 local\n\n00:01.000 --> 00:02.000\n<v Ada>Good morning.\n")
    assert "recorded 2026-03-02T09:10 local" in document_text(document)
    assert str(Index(document).once("said", Said).own_date) == "2026-03-02"
    assert [sentence.text for sentence in document.sentences] == ["Good morning."]


def test_lines_before_the_talk_of_a_text_are_no_one_s_words() -> None:
    text = "Call of 2 March 2026\nLine: visitors\n\nAda: Good morning.\nBen: Hello, is the fern house open?\nAda: It is.\nBen: Thank you.\n"
    document = read(text.encode())
    assert [sentence.speaker for sentence in document.sentences] == ["Ada", "Ben", "Ada", "Ben"]
    assert "Call of 2 March 2026" in document_text(document)
    assert str(Index(document).once("said", Said).own_date) == "2026-03-02"


def test_a_transcript_in_json_is_known_by_its_values_whatever_its_keys_are() -> None:
    said = [
        "Good morning, this is the garden.",
        "Hello, is the fern house open today?",
        "It is open until half past five.",
        "Thank you very much indeed.",
    ]
    rows = [{"z": [n, n + 0.5], "q": f"P{n % 2}", "w": text} for n, text in enumerate(said)]
    document = read(json.dumps({"call": {"day": "2026-03-02T09:10:00", "who": {"P0": "Ada", "P1": "a visitor"}, "parts": rows}}).encode())
    assert [(each.speaker, each.start) for each in document.sentences] == [("Ada", 0), ("a visitor", 1000), ("Ada", 2000), ("a visitor", 3000)]
    assert "2026-03-02" in document_text(document)


def test_a_list_that_is_no_talk_is_no_transcript() -> None:
    rows = [{"plant": f"Fern number {n}", "bed": f"B{n}", "note": "needs shade"} for n in range(6)]
    assert read(json.dumps(rows).encode()).sentences == ()
