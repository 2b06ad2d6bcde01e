"""Numbers in words are read back whatever they are: spelled by the rules of a language, with ordinals, figures and halves."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.values.number_words import groups, tokens

EN = "zero one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen seventeen eighteen nineteen"
EN_TENS = "twenty thirty forty fifty sixty seventy eighty ninety"
DE = "null eins zwei drei vier fünf sechs sieben acht neun zehn elf zwölf dreizehn vierzehn fünfzehn sechzehn siebzehn achtzehn neunzehn"
DE_TENS = "zwanzig dreißig vierzig fünfzig sechzig siebzig achtzig neunzig"
NL = "nul een twee drie vier vijf zes zeven acht negen tien elf twaalf dertien veertien vijftien zestien zeventien achttien negentien"
NL_TENS = "twintig dertig veertig vijftig zestig zeventig tachtig negentig"
FR = "zéro un deux trois quatre cinq six sept huit neuf dix onze douze treize quatorze quinze seize dix-sept dix-huit dix-neuf"
FR_TENS = "vingt trente quarante cinquante soixante"


def english(n: int) -> str:
    if n < 20:
        return EN.split()[n]
    if n < 100:
        return EN_TENS.split()[n // 10 - 2] + (f"-{english(n % 10)}" if n % 10 else "")
    if n < 1000:
        return f"{english(n // 100)} hundred" + (f" and {english(n % 100)}" if n % 100 else "")
    return f"{english(n // 1000)} thousand" + (f"{' and' if n % 1000 < 100 else ''} {english(n % 1000)}" if n % 1000 else "")


def together(n: int, small: str, tens: str, join: str, hundred: str, thousand: str, one: str) -> str:
    """German and Dutch: one word, the unit before the tens."""
    if n < 20:
        return small.split()[n]
    if n < 100:
        unit = (one if n % 10 == 1 else small.split()[n % 10]) if n % 10 else ""
        gap = "ën" if unit.endswith("e") and join == "en" else join
        return (unit + gap if unit else "") + tens.split()[n // 10 - 2]
    if n < 1000:
        return (together(n // 100, small, tens, join, hundred, thousand, one) if n >= 200 else "") + hundred + rest(n % 100, small, tens, join, one)
    head = together(n // 1000, small, tens, join, hundred, thousand, one) if n >= 2000 else ""
    return head + thousand + (together(n % 1000, small, tens, join, hundred, thousand, one) if n % 1000 else "")


def rest(n: int, small: str, tens: str, join: str, one: str) -> str:
    return together(n, small, tens, join, "", "", one) if n else ""


def french(n: int) -> str:
    if n < 20:
        return FR.split()[n]
    if n < 70:
        ten, unit = FR_TENS.split()[n // 10 - 2], n % 10
        return ten + (" et un" if unit == 1 else f"-{french(unit)}" if unit else "")
    if n < 80:
        return "soixante" + (" et onze" if n == 71 else f"-{french(n - 60)}")
    if n < 100:
        return "quatre-vingt" + (f"-{french(n - 80)}" if n > 80 else "s")
    if n < 1000:
        return (
            (f"{french(n // 100)} " if n >= 200 else "")
            + "cent"
            + ("s" if n % 100 == 0 and n >= 200 else "")
            + (f" {french(n % 100)}" if n % 100 else "")
        )
    return (f"{french(n // 1000)} " if n >= 2000 else "") + "mille" + (f" {french(n % 1000)}" if n % 1000 else "")


SPELLED = {
    "en": english,
    "de": lambda n: together(n, DE, DE_TENS, "und", "hundert", "tausend", "ein"),
    "nl": lambda n: together(n, NL, NL_TENS, "en", "honderd", "duizend", "een"),
    "fr": french,
}


@pytest.mark.parametrize("language", list(SPELLED))
@given(number=st.integers(0, 9999))
def test_a_number_that_is_spelled_is_read_back(language: str, number: int) -> None:
    spelled = SPELLED[language](number)
    assert [each.value for each in groups(tokens(spelled), language)] == [number], spelled


@pytest.mark.parametrize("language", list(SPELLED))
@given(number=st.integers(0, 10**9), before=st.sampled_from(["", "0", "00"]))
def test_figures_are_kept_with_their_noughts(language: str, number: int, before: str) -> None:
    (found,) = groups([f"{before}{number}"], language)
    assert (found.value, found.figures) == (number, f"{before}{number}")


@pytest.mark.parametrize(
    ("language", "said", "wanted"),
    [
        ("en", "the twenty-first and the 3rd", [21, 3]),
        ("en", "a dozen", [1, 12]),
        ("de", "am dritten und am einundzwanzigsten", [3, 21]),
        ("fr", "le premier et le 2e", [1, 2]),
        ("es", "el 1º de mayo", [1]),
        ("nl", "de eerste en de twaalfde", [1, 12]),
    ],
)
def test_ordinals_are_numbers(language: str, said: str, wanted: list[int]) -> None:
    assert [each.value for each in groups(tokens(said), language)] == wanted


@given(st.text(max_size=60))
def test_no_text_breaks_the_reading_of_numbers(text: str) -> None:
    words = tokens(text)
    assert all(0 <= each.first < each.last <= len(words) for each in groups(words, "de"))
