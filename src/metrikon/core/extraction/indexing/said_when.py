"""When something is meant that is said: days by weekday and number, from the day of the document, times of day in words."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from datetime import date, timedelta

from metrikon.core.values.dates import MONTHS, parse_date
from metrikon.core.values.languages import LANGUAGES
from metrikon.core.values.number_words import Group, groups, plain

BY_NUMBER = 0.65  # of a day that is told by its number alone: "the fourteenth"
BREAK = "|"  # where another speaks, or print stands apart
NEAR_DAY = 6  # tokens between the name of a weekday or month and the number of its day
_WEEKDAYS = (
    "monday mon montag mo lundi lunes lunedi maandag segunda mandag poniedzialek poniedzialku pondeli",
    "tuesday tue tues dienstag di mardi martes martedi dinsdag terca tirsdag tisdag wtorek wtorku utery utery",
    "wednesday wed mittwoch mi mercredi miercoles mercoledi woensdag quarta onsdag sroda srode srody streda stredu stredy",
    "thursday thu thurs donnerstag do jeudi jueves giovedi donderdag quinta torsdag czwartek czwartku ctvrtek ctvrtka",
    "friday fri freitag fr vendredi viernes venerdi vrijdag sexta fredag piatek piatku patek patku",
    "saturday sat samstag sonnabend sa samedi sabado sabato zaterdag lordag lordag sobota sobote soboty sobotu",
    "sunday sun sonntag so dimanche domingo domenica zondag sondag niedziela niedziele niedzieli nedele nedeli",
)
WEEKDAY = {name: number for number, names in enumerate(_WEEKDAYS) for name in names.split()}
WEEKDAY = {**{f"{name}s": number for name, number in WEEKDAY.items() if len(name) > 4}, **WEEKDAY}  # "sábados", "Saturdays", "samstags"
_SHORT = {"mo", "di", "mi", "do", "fr", "sa", "so", "mon", "sun", "sat", "wed", "segunda", "terca", "quarta", "quinta", "sexta"}
_RELATIVE = {
    "today": 0, "tonight": 0, "heute": 0, "aujourd'hui": 0, "hoy": 0, "oggi": 0, "vandaag": 0, "hoje": 0, "idag": 0, "dzis": 0, "dzisiaj": 0, "dnes": 0,
    "tomorrow": 1, "morgen": 1, "demain": 1, "manana": 1, "domani": 1, "amanha": 1, "imorgon": 1, "jutro": 1, "zitra": 1,
    "ubermorgen": 2, "overmorgen": 2, "dopodomani": 2, "yesterday": -1, "gestern": -1, "hier": -1, "ayer": -1, "ieri": -1, "gisteren": -1, "ontem": -1, "igar": -1, "wczoraj": -1, "vcera": -1,
    "vorgestern": -2, "eergisteren": -2, "anteayer": -2, "anteontem": -2, "przedwczoraj": -2, "predevcirem": -2, "pojutrze": 2, "pozitri": 2,
}  # fmt: skip
_AFTER_I = {"dag": 0, "morgen": 1, "morgon": 1, "gar": -1}  # "i dag", "i morgen", "i går"
HOURS = {"h", "u", "uur", "uhr", "heure", "heures", "hora", "horas", "ore", "ora", "hour", "hours", "hrs", "hr", "std", "stunde", "stunden", "klokken", "time", "timer", "tim", "timme", "timmar", "godz", "o'clock", "oclock"}  # fmt: skip
HALF = {"half", "halb", "halv"}
PAST = {"past", "after", "nach", "over", "et", "y", "e", "efter"}
TO = {"to", "before", "vor", "voor", "moins", "menos", "meno", "till"}
QUARTER = {"quarter", "viertel", "kwart", "quart", "cuarto", "quarto", "kvart", "kvarter"}
NOON = {"noon", "midday", "mittags", "mittag", "midi", "mediodia", "mezzogiorno", "middag", "meio-dia"}


def named_day(words: list[str], one: Group, wanted: date) -> float:
    """How surely a number is the day that is wanted: its month or weekday stands by it; 0 when nothing says so."""
    before, after = words[max(0, one.first - NEAR_DAY) : one.first], words[one.last : one.last + NEAR_DAY]
    near = [plain(word) for word in [*reversed(list(_unbroken(reversed(before)))), *_unbroken(after)]]
    months = {MONTHS[word.rstrip(".")] for word, following in zip(near, [*near[1:], ""], strict=False) if names_month(word, following)}
    if months:
        return 0.9 if wanted.month in months else 0.0
    days = {WEEKDAY[word] for word in near if word in WEEKDAY}
    if days:
        return 0.85 if wanted.weekday() in days else 0.0
    ordinal = not words[one.first].isdecimal() and plain(words[one.last - 1]).endswith(("th", "st", "nd", "rd", "ste", "sten", "ter", "de", "te"))
    follows = words[one.last] if one.last < len(words) else ""
    by_article = bool(before) and plain(before[-1]) in _OF_DAYS and not follows[:1].isalnum()  # "avant le trente."
    return BY_NUMBER if ordinal or by_article else 0.0


_OF_DAYS = {"le", "el", "il", "dia", "giorno"}


def names_month(word: str, following: str) -> bool:
    """Whether a word names a month; "sept" before hours is a number."""
    return len(word) > 2 and word.rstrip(".") in MONTHS and not (word == "sept" and following in HOURS)


def _unbroken(words: Iterator[str] | list[str]) -> Iterator[str]:
    for word in words:
        if word == BREAK:
            return
        yield word


def relative_days(words: list[str], wanted: date, own: date | None) -> Iterator[tuple[int, float]]:
    """Words such as "tomorrow" and "next Tuesday" that mean a day from the document's own date."""
    if own is None or not -8 <= (wanted - own).days <= 100:
        return
    for at, word in enumerate(words):
        said = plain(word)
        if _means(words, at, said, own) == wanted:
            yield at, 0.8
        elif (wanted - own).days > 0 and said in _SPANS and at > 0 and _span(words, at, own) == wanted:
            yield at, 0.75
        elif 0 <= (wanted - own).days <= 21 and _weekday_alone(words, at, said) == wanted.weekday():
            yield at, 0.65
        elif said in _END and wanted in _ends(words[at + 1 : at + 5], own):
            yield at, 0.7


def _means(words: Sequence[str], at: int, said: str, own: date) -> date | None:
    """The day that one word means: "tomorrow", "i morgen"."""
    if said in _RELATIVE:
        return own + timedelta(days=_RELATIVE[said])
    after_i = said in _AFTER_I and at > 0 and plain(words[at - 1]) == "i"
    return own + timedelta(days=_AFTER_I[said]) if after_i else None


def _weekday_alone(words: list[str], at: int, said: str) -> int | None:
    """The weekday that a word names after which no figure comes."""
    if said not in WEEKDAY or (said in _SHORT and not _on_the_fair(words, at)):
        return None
    follows = next((word for word in words[at + 1 : at + 3] if word not in (",", BREAK)), "")
    return None if follows.isdecimal() else WEEKDAY[said]


def _on_the_fair(words: list[str], at: int) -> bool:
    """Whether a Portuguese number is a weekday: "segunda-feira"."""
    return at + 1 < len(words) and plain(words[at + 1]) == "feira"


_PASSED = {
    "last",
    "letzten",
    "letzte",
    "letzter",
    "vorigen",
    "dernier",
    "derniere",
    "pasado",
    "pasada",
    "scorso",
    "scorsa",
    "vorige",
    "afgelopen",
    "passada",
    "passado",
    "sidste",
    "forra",
    "zeszly",
    "zeszla",
}
_BY_LANGUAGE = {"morgen": ("de", "nl"), "hier": ("fr",)}  # words that mean a day in some languages only


def next_day(words: list[str], at: int, own: date, language: str | None) -> date | None:
    """The day that "tomorrow" or a weekday without a number means, from the day of the talk."""
    word = plain(words[at])
    if word in _RELATIVE and _RELATIVE[word] and (word not in _BY_LANGUAGE or language in _BY_LANGUAGE[word]):
        greeting = word == "morgen" and at > 0 and plain(words[at - 1]) in ("guten", "goede", "am", "diesen", "jeden", "s")
        return None if greeting else own + timedelta(days=_RELATIVE[word])
    if word not in WEEKDAY or len(word) < 4 or word in _SHORT or not words[at][0].isalpha():
        return None
    near = [plain(each) for each in words[max(0, at - 2) : at + 2] if each != BREAK]
    follows = [each for each in words[at + 1 : at + 5] if plain(each) not in (",", BREAK, "der", "den", "dem", "the", "de", "le", "el", "il")]
    if set(near) & _PASSED or (follows and (follows[0].isdecimal() or groups(follows[:1], language))):
        return None
    return own + timedelta(days=(WEEKDAY[word] - own.weekday() - 1) % 7 + 1)


_END = {"end", "ende", "fin", "finales", "fine", "eind", "einde", "fim", "final", "slutningen", "slutet", "udgangen", "koniec", "konca"}
_MONTH = {"month", "monat", "monats", "mois", "mes", "mese", "maand", "maned", "maneden", "manad", "manaden", "miesiaca"}
_WEEK = {"week", "woche", "semaine", "semana", "settimana", "uge", "ugen", "vecka", "veckan", "tygodnia"}


def _ends(after: list[str], own: date) -> Iterator[date]:
    """The days that "end of the month", "Ende März" or "by the end of the week" may mean."""
    for word in _unbroken(map(plain, after)):
        month = own.month if word in _MONTH else MONTHS.get(word.rstrip("."), 0)
        if month:
            year = own.year + (month < own.month)
            yield date(year + month // 12, month % 12 + 1, 1) - timedelta(days=1)
            return
        if word in _WEEK:
            sunday = own + timedelta(days=6 - own.weekday())
            yield from (sunday - timedelta(days=2), sunday - timedelta(days=1), sunday)
            return


_SPANS = {
    **dict.fromkeys(("day", "days", "tag", "tage", "tagen", "jour", "jours", "dia", "dias", "giorno", "giorni", "dag", "dagen"), 1),
    **dict.fromkeys(("week", "weeks", "woche", "wochen", "semaine", "semaines", "semana", "semanas", "settimana", "settimane", "weken"), 7),
    **dict.fromkeys(("fortnight", "fortnights"), 14),
}  # fmt: skip


def _span(words: list[str], at: int, own: date) -> date | None:
    """The day that "in two weeks" means."""
    parts = groups([words[at - 1]], None) or next((found for language in LANGUAGES if (found := groups([words[at - 1]], language))), [])
    return own + timedelta(days=parts[0].value * _SPANS[plain(words[at])]) if parts and parts[0].value < 60 else None


_BEFORE_TIME = {"till", "til", "do", "hasta", "ate", "jusqu'a", "fino", "mellan", "mellem", "mezi", "miedzy", "entre", "och", "og", "i", "y", "e", "o", "okolo", "kolem", "about", "around", "gegen", "vers", "rond", "at", "by", "um", "om", "a", "alle", "las", "klockan", "klokken", "kl", "until", "bis", "to", "from", "von", "van", "de", "tussen", "between", "en", "and", "vor", "voor"}  # fmt: skip


def clock_times(words: list[str], here: list[Group], at: int) -> Iterator[tuple[int, int, float]]:
    """(minutes since midnight, last token, sureness) of the times that begin with a number."""
    one = here[at]
    if one.value > 24 or len(one.figures) > 2:
        return
    yield from _with_minutes(words, one, here[at + 1] if at + 1 < len(here) else None)
    yield from _by_what_follows(words, one)
    yield from _by_what_stands_before(words, one)
    after = plain(words[one.last]) if one.last < len(words) else ""
    if after in ("-", "–", "bis", "to", "a", "tot"):
        yield one.value * 60, one.last, 0.66


def _with_minutes(words: list[str], one: Group, following: Group | None) -> Iterator[tuple[int, int, float]]:
    """Hours and minutes: "four twenty", "17 h 45"."""
    if following is None or following.value >= 60 or len(following.figures) > 2:
        return
    between = [plain(word) for word in words[one.last : following.first]]
    if not between or (len(between) == 1 and (between[0] in HOURS or between[0] in ":.h")):
        yield one.value * 60 + following.value, following.last, 0.9


def _by_what_follows(words: list[str], one: Group) -> Iterator[tuple[int, int, float]]:
    """Hours with a word after them: "às oito e meia", "11 Uhr", "4 pm"."""
    after = plain(words[one.last]) if one.last < len(words) else ""
    if after in _AND_HALF and one.last + 1 < len(words) and plain(words[one.last + 1]) in _A_HALF:
        yield one.value * 60 + 30, one.last + 2, 0.92
    if after in HOURS or after in ("am", "pm", "a", "p"):
        yield one.value * 60, one.last + 1, 0.85


def _by_what_stands_before(words: list[str], one: Group) -> Iterator[tuple[int, int, float]]:
    """Hours with a word before them: "half drie", "half past four", "quarter to nine", "at five"."""
    before = [plain(word) for word in words[max(0, one.first - 2) : one.first]]
    first, last = before[0] if len(before) == 2 else "", before[-1] if before else ""
    if last in HALF:
        yield one.value * 60 - 30, one.last, 0.8
    if first in HALF and last in PAST:
        yield one.value * 60 + 30, one.last, 0.9
    if first in QUARTER:
        yield one.value * 60 + (15 if last in PAST else -15 if last in TO else 0), one.last, 0.8
    if last in _BEFORE_TIME:
        yield one.value * 60, one.last, 0.66


_AND_HALF, _A_HALF = {"e", "y", "et", "i"}, {"meia", "media", "mezza", "mezzo", "demie", "demi", "pol"}
_OF_DAY = {"abend", "nachmittag", "vormittag", "morgen", "mittag"}  # "um sieben am Abend"


def halves_of_day(words: list[str], last: int, minutes: int) -> tuple[int, ...]:
    """What is to be added to a time for the half of the day that is meant: both where nothing says which."""
    after = "".join(plain(word) for word in words[last : last + 4] if word != ".")[:2]
    if minutes >= 13 * 60:
        return (0,)
    if after == "pm":
        return (720 if minutes < 720 else 0,)
    if after == "am" and not (last + 1 < len(words) and plain(words[last + 1]) in _OF_DAY | set(WEEKDAY)):
        return (0 if minutes < 720 else -720,)
    return (0, 720) if minutes < 720 else (0,)


def date_in(text: str) -> date | None:
    """The day that a fact of a file names, such as the date of a mail; None when it is none."""
    found = parse_date(text[:10]) if re.match(r"\d{4}-\d\d-\d\d", text) else None
    if found is None and (match := re.search(r"\d{1,2} [A-Z][a-z]{2} \d{4}", text)):
        found = parse_date(match.group())
    return found or parse_date(text)


_SMALL = {".", ",", "'", "de", "of", "del"}
_YEAR, _MONTH_FIGURE = re.compile(r"(?:19|20)\d\d"), re.compile(r"0?[1-9]|1[0-2]")


def months_in(words: Sequence[str]) -> Iterator[tuple[str, int, int, int]]:
    """(year, month, first token, last) of each month that stands with its year: "May 2022", "5/2022", "05-2022", "2022.05"."""
    for at, word in enumerate(words):
        month = MONTHS.get(plain(word).rstrip("."))
        found = _named_month(words, at, month) if month else _month_in_figures(words, at)
        if found is not None:
            yield found


def _named_month(words: Sequence[str], at: int, month: int) -> tuple[str, int, int, int] | None:
    """A month by its name, with the year of two or four figures that follows."""
    following = [word for word in words[at + 1 : at + 5] if word not in _SMALL][:2]
    year = next((word for word in following if re.fullmatch(r"(?:19|20)\d\d|\d\d", word)), None)
    if year is None:
        return None
    last = at + 1 + list(words[at + 1 :]).index(year) + 1
    return (year if len(year) == 4 else f"20{year}"), month, at, last


def _month_in_figures(words: Sequence[str], at: int) -> tuple[str, int, int, int] | None:
    """A month in figures before its year or after it."""
    one, mark, two = words[at], *(*words[at + 1 : at + 3], "", "")[:2]
    if _MONTH_FIGURE.fullmatch(one) and mark and mark in "./-–" and _YEAR.fullmatch(two):
        return two, int(one), at, at + 3
    if re.fullmatch(r"0[1-9]|1[0-2]", one) and re.fullmatch(r"20\d\d", mark):
        return mark, int(one), at, at + 2
    if _YEAR.fullmatch(one) and mark and mark in "./" and _MONTH_FIGURE.fullmatch(two):
        return one, int(two), at, at + 3
    return None
