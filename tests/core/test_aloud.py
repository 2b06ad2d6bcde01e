"""A talk is shown with what is read out in it written in figures; what is open stays as it was said."""

from __future__ import annotations

from datetime import date
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.extraction.indexing.aloud import meetings, read_aloud
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.prompt import parts
from metrikon.readers.registry import read

DAY = "2026-03-02"  # a Monday


def talk(*said: str, language: str = "en", day: str = DAY) -> Index:
    """A call in which two speak in turn."""
    lines = "\n\n".join(f"00:{n:02}.000 --> 00:{n:02}.900\n<v {('Garden', 'Caller')[n % 2]}>{text}" for n, text in enumerate(said))
    note = f"NOTE recorded {day} language {language}\n\n" if day else ""
    return Index(read(f"WEBVTT\n\n{note}{_OPENING[language]}{lines}\n".encode()))


_OPENING = {
    language: f"00:00.000 --> 00:00.500\n<v Garden>{text}\n\n"
    for language, text in {
        "en": "Good morning, this is the garden and what can we do for you today?",
        "de": "Guten Tag, hier ist der Garten und was können wir heute für Sie tun?",
        "fr": "Bonjour, ici le jardin et que pouvons-nous faire pour vous dans la serre ?",
        "es": "Buenos días, este es el jardín y qué podemos hacer por usted con las plantas?",
        "it": "Buongiorno, questo è il giardino e che cosa possiamo fare per lei con le piante?",
        "nl": "Goedemiddag, dit is de tuin en wat kunnen wij voor u doen met het plantje?",
    }.items()
}


def shown(index: Index) -> str:
    return " ".join(parts(index, {}, 20_000)[0].text.split())


WORDS = [
    "one",
    "two",
    "three",
    "at",
    "dot",
    "oh",
    "half",
    "past",
    "ten",
    "fifteen",
    "the",
    "May",
    "Friday",
    ",",
    ".",
    "euros",
    "fern",
    "no",
    "forty",
    "hundred",
]
WRITTEN = [
    ("en", "My number is oh seven seven double oh, nine hundred, one two three.", "My number is +447700900123."),
    ("en", "It is ada dot fern forty-two at hollow dash lane dot example, please.", "It is ada.fern42@hollow-lane.example, please."),
    ("en", "Friday the thirteenth at half past two?", "Friday the thirteenth (2026-03-13) at 14:30?"),
    ("en", "The sixth of April, quarter to nine.", "The sixth of April (2026-04-06), 08:45."),
    ("en", "Can you come tomorrow?", "Can you come tomorrow (2026-03-03)?"),
    ("en", "No, the nineteenth.", "No, the nineteenth (2026-03-19)."),
    ("en", "Both pots are two ninety-eight.", "Both pots are 298."),
    ("en", "That is twelve dollars fifty.", "That is 12.50 dollars."),
    ("en", "We need twenty-four ferns, or a hundred and six.", "We need 24 ferns, or 106."),
    ("en", "The shelf is four seven one.", "The shelf is 471."),
    ("en", "She was born on the fourth of May nineteen ninety-eight.", "She was born on the fourth of May nineteen ninety-eight (1998-05-04)."),
    ("en", "This is our first time here, and no one else is with me.", "This is our first time here, and no one else is with me."),
    ("en", "One, two, three, four in favour.", "One, 2, 3, 4 in favour."),
    ("de", "Dienstag, den zehnten März, um halb drei.", "Dienstag, den zehnten März (2026-03-10), um 14:30."),
    ("de", "Der Meter kostet sieben Euro fünfzig.", "Der Meter kostet 7.50 Euro."),
    ("de", "Ich brauche einen Topf und siebenundzwanzig Farne.", "Ich brauche einen Topf und 27 Farne."),
    ("de", "Guten Morgen, bis übermorgen um neun Uhr.", "Guten Morgen, bis übermorgen (2026-03-04) um 09:00."),
    ("fr", "C'est le zéro six, douze, trente-quatre, cinquante-six, soixante-dix-huit.", "C'est le +33612345678."),
    ("fr", "Vendredi treize, dix-sept heures quinze.", "Vendredi treize (2026-03-13), 17:15."),
    ("fr", "Un pot neuf coûte trente-deux euros.", "Un pot neuf coûte 32 euros."),
    ("es", "Son trescientos cuarenta euros.", "Son 340 euros."),
    ("nl", "Die zijn zeven vijftig per stuk.", "Die zijn 7.50 per stuk."),
    ("nl", "Het is t punt mos, apenstaartje vijver punt example.", "Het is t.mos@vijver.example."),
    ("it", "Costano ventidue euro l'uno.", "Costano 22 euro l'uno."),
]


@pytest.mark.parametrize(("language", "said", "wanted"), WRITTEN, ids=[f"{each[0]} {each[1][:30]}" for each in WRITTEN])
def test_what_is_read_out_is_shown_in_figures(language: str, said: str, wanted: str) -> None:
    assert wanted in shown(talk(said, language=language))


def test_a_day_of_a_talk_without_a_date_is_told_only_where_its_weekday_says_the_year() -> None:
    said = ("Saturday the thirtieth of May then, not the second of June.",)
    with_today = {each.written for each in read_aloud(talk(*said, day=""), date(2026, 11, 26)) if each.kind == "date"}
    assert with_today == {"2026-05-30"}
    assert not [each for each in read_aloud(talk(*said, day="")) if each.kind == "date"]


def test_days_and_times_that_are_said_together_are_meetings() -> None:
    index = talk("Thursday the twelfth at half past eight?", "I cannot. Friday the thirteenth, ten fifteen.", "Fine.")
    assert [(each.day, each.time) for each in meetings(index)] == [("2026-03-12", "08:30"), ("2026-03-13", "10:15")]


def test_a_sentence_that_goes_on_in_the_next_cue_is_of_the_same_speaker() -> None:
    cues = "WEBVTT\n\n00:00.000 --> 00:01.000\n<v Garden>Good morning, what is it?\n\n00:01.000 --> 00:02.000\n<v Caller>I will come at half\n\n00:02.000 --> 00:03.000\npast three.\n"
    document = read(cues.encode())
    assert [each.speaker for each in document.sentences] == ["Garden", "Caller", "Caller"]
    assert "15:30" in shown(Index(document))


@given(st.lists(st.sampled_from(WORDS), max_size=40))
def test_any_words_can_be_shown_and_nothing_stands_within_another(words: list[str]) -> None:
    index = talk(" ".join(["Well", *words]))
    spans = [(each.run, each.first, each.last) for each in read_aloud(index)]
    assert all(a[0] != b[0] or a[2] <= b[1] for a, b in pairwise(spans))
    assert shown(index)
