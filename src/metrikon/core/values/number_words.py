"""Numbers in words, as people say them: "two ninety-eight", "tweeëntwintig vijftig", "quatre-vingt-dix-huit", "die Vierzehnte".

Words and figures of a text become groups, each a number with the words it stands on. Eleven languages; which one is said by the caller.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import lru_cache

# units 0 to 9, then 10 to 19, then 20, 30 … 90, then hundred and thousand; several spellings parted by /
_TABLES = {
    "en": "zero/oh/o/nought one/a two three four five six seven eight nine|ten eleven twelve thirteen fourteen fifteen sixteen seventeen eighteen nineteen"
    "|twenty thirty forty fifty sixty seventy eighty ninety|hundred|thousand/grand",
    "de": "null ein/eins/eine/einen/einem/einer zwei/zwo drei vier funf/fuenf sechs sieben acht neun"
    "|zehn elf zwolf/zwoelf dreizehn vierzehn funfzehn/fuenfzehn sechzehn siebzehn achtzehn neunzehn"
    "|zwanzig dreissig/dreißig vierzig funfzig/fuenfzig sechzig siebzig achtzig neunzig|hundert|tausend",
    "fr": "zero un/une deux trois quatre cinq six sept huit neuf|dix onze douze treize quatorze quinze seize dix-sept dix-huit dix-neuf"
    "|vingt/vingts trente quarante cinquante soixante septante huitante/octante nonante|cent/cents|mille",
    "es": "cero uno/un/una dos tres cuatro cinco seis siete ocho nueve"
    "|diez once doce trece catorce quince dieciseis diecisiete dieciocho diecinueve"
    "|veinte/veinti treinta cuarenta cincuenta sesenta setenta ochenta noventa|cien/ciento/cientos|mil",
    "it": "zero uno/un/una due tre quattro cinque sei sette otto nove"
    "|dieci undici dodici tredici quattordici quindici sedici diciassette diciotto diciannove"
    "|venti/vent trenta/trent quaranta/quarant cinquanta/cinquant sessanta/sessant settanta/settant ottanta/ottant novanta/novant|cento|mille/mila",
    "nl": "nul een/één twee drie vier vijf zes zeven acht negen"
    "|tien elf twaalf dertien veertien vijftien zestien zeventien achttien negentien"
    "|twintig dertig veertig vijftig zestig zeventig tachtig negentig|honderd|duizend",
    "pt": "zero um/uma dois/duas tres quatro cinco seis/meia sete oito nove"
    "|dez onze doze treze catorze/quatorze quinze dezasseis/dezesseis dezassete/dezessete dezoito dezanove/dezenove"
    "|vinte trinta quarenta cinquenta sessenta setenta oitenta noventa|cem/cento/centos|mil",
    "da": "nul en/et to tre fire fem seks syv otte ni|ti elleve tolv tretten fjorten femten seksten sytten atten nitten"
    "|tyve tredive fyrre/fyrretyve halvtreds tres halvfjerds firs halvfems|hundrede/hundred|tusind/tusinde",
    "sv": "noll en/ett tva tre fyra fem sex sju atta nio|tio elva tolv tretton fjorton femton sexton sjutton arton nitton"
    "|tjugo trettio fyrtio femtio sextio sjuttio attio nittio|hundra|tusen",
    "pl": "zero jeden/jedna/jedno dwa/dwie trzy cztery piec szesc siedem osiem dziewiec"
    "|dziesiec jedenascie dwanascie trzynascie czternascie pietnascie szesnascie siedemnascie osiemnascie dziewietnascie"
    "|dwadziescia trzydziesci czterdziesci piecdziesiat szescdziesiat siedemdziesiat osiemdziesiat dziewiecdziesiat|sto/set|tysiac/tysiace/tysiecy",
    "cs": "nula jeden/jedna/jedno dva/dve tri ctyri pet sest sedm osm devet"
    "|deset jedenact dvanact trinact ctrnact patnact sestnact sedmnact osmnact devatenact"
    "|dvacet tricet ctyricet padesat sedesat sedmdesat osmdesat devadesat|sto/sta/ste/set|tisic/tisice/tisicu",
}  # fmt: skip
_IRREGULAR = {
    "en": {"first": 1, "second": 2, "third": 3, "fifth": 5, "eighth": 8, "ninth": 9, "twelfth": 12, "dozen": 12},
    "de": {
        **{f"{stem}{end}": number for stem, number in (("erste", 1), ("dritte", 3), ("siebte", 7), ("achte", 8)) for end in ("", "n", "r", "s", "m")},
        "dutzend": 12,
    },
    "fr": {"premier": 1, "premiere": 1, "douzaine": 12, "dizaine": 10},
    "es": {
        "primero": 1,
        "doscientos": 200,
        "doscientas": 200,
        "trescientos": 300,
        "trescientas": 300,
        "cuatrocientas": 400,
        "quinientos": 500,
        "quinientas": 500,
        "seiscientas": 600,
        "setecientos": 700,
        "setecientas": 700,
        "ochocientas": 800,
        "novecientos": 900,
        "novecientas": 900,
        "docena": 12,
    },
    "it": {"primo": 1, "dozzina": 12, "ventuno": 21, "ventotto": 28},
    "nl": {"eerste": 1, "derde": 3, "achtste": 8, "dozijn": 12},
    "pt": {
        "primeiro": 1,
        "duzentos": 200,
        "duzentas": 200,
        "trezentos": 300,
        "trezentas": 300,
        "quinhentos": 500,
        "quinhentas": 500,
        "segundo": 2,
        "terceiro": 3,
        "quarto": 4,
        "quinto": 5,
        "duzia": 12,
    },
    "da": {"forste": 1, "anden": 2, "tredje": 3, "fjerde": 4, "femte": 5, "sjette": 6, "syvende": 7, "dusin": 12},
    "sv": {"forsta": 1, "andra": 2, "tredje": 3, "fjarde": 4, "femte": 5, "sjatte": 6, "sjunde": 7, "attonde": 8, "dussin": 12},
    "cs": {
        "dveste": 200,
        "tucet": 12,
        "prvniho": 1,
        "prvni": 1,
        "prvnim": 1,
        "druheho": 2,
        "druhe": 2,
        "druhy": 2,
        "tretiho": 3,
        "treti": 3,
        "tretim": 3,
        "ctvrteho": 4,
        "ctvrte": 4,
        "ctvrty": 4,
        "pateho": 5,
        "paty": 5,
        "sesteho": 6,
        "seste": 6,
        "sesty": 6,
        "sedmeho": 7,
        "sedme": 7,
        "sedmy": 7,
        "osmeho": 8,
        "osme": 8,
        "osmy": 8,
        "devateho": 9,
        "devate": 9,
        "devaty": 9,
        "desateho": 10,
        "desate": 10,
        "desaty": 10,
        "jedenacteho": 11,
        "jedenacte": 11,
        "jedenacty": 11,
        "dvanacteho": 12,
        "dvanacte": 12,
        "dvanacty": 12,
        "trinacteho": 13,
        "trinacte": 13,
        "trinacty": 13,
        "ctrnacteho": 14,
        "ctrnacte": 14,
        "ctrnacty": 14,
        "patnacteho": 15,
        "patnacte": 15,
        "patnacty": 15,
        "sestnacteho": 16,
        "sestnacte": 16,
        "sestnacty": 16,
        "sedmnacteho": 17,
        "sedmnacte": 17,
        "sedmnacty": 17,
        "osmnacteho": 18,
        "osmnacte": 18,
        "osmnacty": 18,
        "devatenacteho": 19,
        "devatenacte": 19,
        "devatenacty": 19,
        "dvacateho": 20,
        "tricateho": 30,
        "pate": 5,
    },
    "pl": {
        "pierwszego": 1,
        "pierwszej": 1,
        "pierwszy": 1,
        "pierwsza": 1,
        "drugiego": 2,
        "drugiej": 2,
        "trzeciego": 3,
        "trzeciej": 3,
        "czwartego": 4,
        "czwartej": 4,
        "czwarty": 4,
        "czwarta": 4,
        "piatego": 5,
        "piatej": 5,
        "piaty": 5,
        "piata": 5,
        "szostego": 6,
        "szostej": 6,
        "szosty": 6,
        "szosta": 6,
        "siodmego": 7,
        "siodmej": 7,
        "siodmy": 7,
        "siodma": 7,
        "osmego": 8,
        "osmej": 8,
        "osmy": 8,
        "osma": 8,
        "dziewiatego": 9,
        "dziewiatej": 9,
        "dziewiaty": 9,
        "dziewiata": 9,
        "dziesiatego": 10,
        "dziesiatej": 10,
        "dziesiaty": 10,
        "dziesiata": 10,
        "jedenastego": 11,
        "jedenastej": 11,
        "jedenasty": 11,
        "jedenasta": 11,
        "dwunastego": 12,
        "dwunastej": 12,
        "dwunasty": 12,
        "dwunasta": 12,
        "trzynastego": 13,
        "trzynastej": 13,
        "trzynasty": 13,
        "trzynasta": 13,
        "czternastego": 14,
        "czternastej": 14,
        "czternasty": 14,
        "czternasta": 14,
        "pietnastego": 15,
        "pietnastej": 15,
        "pietnasty": 15,
        "pietnasta": 15,
        "szesnastego": 16,
        "szesnastej": 16,
        "szesnasty": 16,
        "szesnasta": 16,
        "siedemnastego": 17,
        "siedemnastej": 17,
        "siedemnasty": 17,
        "siedemnasta": 17,
        "osiemnastego": 18,
        "osiemnastej": 18,
        "osiemnasty": 18,
        "osiemnasta": 18,
        "dziewietnastego": 19,
        "dziewietnastej": 19,
        "dziewietnasty": 19,
        "dziewietnasta": 19,
        "dwudziestego": 20,
        "dwudziestej": 20,
        "trzydziestego": 30,
        "czworo": 4,
        "troje": 3,
        "dwoje": 2,
        "piecioro": 5,
        "dwadziescioro": 20,
        "dziesiecioro": 10,
        "dwiescie": 200,
        "trzysta": 300,
        "czterysta": 400,
        "piecset": 500,
    },
}
_ORDINAL = {
    "en": ("ieth", "th"),
    "de": ("sten", "ste", "ster", "ten", "te", "ter"),
    "nl": ("ste", "de"),
    "da": ("ende", "nde", "te", "de"),
    "sv": ("onde", "nde", "de"),
}
_JOINS = {"de": "und", "nl": "en", "da": "og", "it": "", "es": "y", "pt": "e", "sv": "", "fr": "et", "en": "and", "pl": "", "cs": ""}
_WRITTEN_TOGETHER = ("de", "nl", "it", "da", "sv")
_TOKENS = re.compile(r"[^\W_]+(?:'[^\W_]+)?|[^\s\w]")
_FIGURES = re.compile(r"(\d+)(?:(?<!\d\d\d)(?:st|nd|rd|th|er|re|e|ste|de|º|ª))?", re.IGNORECASE)
HUNDRED, THOUSAND = 100, 1000


@dataclass(frozen=True)
class Group:
    """A number that stands in a text: its value, its figures with leading noughts, and its tokens [first, last)."""

    value: int
    figures: str
    first: int
    last: int


def plain(word: str) -> str:
    """A word in small letters without accents."""
    return "".join(c for c in unicodedata.normalize("NFKD", word.lower().replace("ł", "l").replace("ø", "o")) if not unicodedata.combining(c))


@lru_cache(maxsize=16)
def _table(language: str) -> dict[str, int]:
    found: dict[str, int] = {}
    units, teens, tens, hundred, thousand = _TABLES[language].split("|")
    for names, step, start in ((units, 1, 0), (teens, 1, 10), (tens, 10, 20)):
        for number, spellings in enumerate(names.split()):
            for spelling in spellings.split("/"):
                found[plain(spelling)] = start + number * step
    for names, value in ((hundred, HUNDRED), (thousand, THOUSAND)):
        found.update({plain(spelling): value for spelling in names.split("/")})
    return found | _IRREGULAR[language]


@lru_cache(maxsize=8192)
def word_parts(word: str, language: str) -> tuple[int, ...]:
    """The numbers that one word is made of, in the order of their size: "eenentachtig" is (80, 1); nothing for other words."""
    table = _table(language)
    body = plain(word)
    if body in table:
        return (table[body],)
    parts = _split(body, language, table)
    if not parts:
        for ending in _ORDINAL.get(language, ()):
            stem = body.removesuffix(ending)
            if stem != body and stem:
                stem = stem + "y" if ending == "ieth" else stem
                parts = (table[stem],) if stem in table else _split(stem, language, table)
                if parts:
                    break
    return parts


def _split(body: str, language: str, table: dict[str, int]) -> tuple[int, ...]:
    """A compound taken apart from the left, longest parts first; a unit before tens changes places with them."""
    if len(body) < 5:
        return ()
    join = _JOINS[language]
    parts: list[int] = []
    at = 0
    while at < len(body):
        end = next((end for end in range(min(len(body), at + 16), at + 1, -1) if body[at:end] in table), None)
        if end is None:
            if join and parts and body.startswith(join, at):
                at += len(join)
                continue
            return ()
        # "zwei-und-zwanzig": the longest match may have eaten the joining word's first letters; a shorter one is not tried
        parts.append(table[body[at:end]])
        at = end
    if len(parts) < 2:
        return tuple(parts)
    ordered: list[int] = []
    for value in parts:
        if 20 <= value < HUNDRED and ordered and 0 < ordered[-1] < 10 and language in ("de", "nl", "da"):
            ordered.insert(len(ordered) - 1, value)
        else:
            ordered.append(value)
    return tuple(ordered)


def is_ordinal(word: str, language: str | None) -> bool:
    """Whether a number in words says the place in an order: "fourteenth", "dertigste", "premier"."""
    known = language if language in _TABLES else "en"
    body = plain(word)
    irregular = _IRREGULAR[known].get(body, 0)
    if irregular:
        return irregular < 12 or body == "twelfth"
    return body not in _table(known) and not _split(body, known, _table(known)) and bool(word_parts(body, known))


def tokens(text: str) -> list[str]:
    """Words, figures and marks of a text; hyphens part words."""
    return [part for part in _TOKENS.findall(text.replace("-", " ").replace("‑", " ").replace("’", "'")) if part]


def groups(words: list[str], language: str | None) -> list[Group]:
    """The numbers among the tokens of a text, in words and in figures."""
    known = language if language in _TABLES else "en"
    join = _JOINS[known]
    found: list[Group] = []
    held: _Held | None = None
    for at, word in enumerate(words):
        if figures := _FIGURES.fullmatch(word):
            if held:
                found.append(held.group())
                held = None
            found.append(Group(int(figures[1]), figures[1], at, at + 1)) if len(figures[1]) < 16 else None
            continue
        parts = word_parts(word, known) if word[0].isalpha() else ()
        if held and len(parts) > 1 and known in _WRITTEN_TOGETHER and (held.now % HUNDRED or held.now == 0):
            found.append(held.group())
            held = None
        if not parts:
            if held and not (plain(word) == join and held.last == at):
                found.append(held.group())
                held = None
            continue
        for part in parts:
            if held is None or held.last < at - 1 or not held.takes(part, known):
                if held:
                    found.append(held.group())
                held = _Held(at)
                held.takes(part, known)
            held.last = at + 1
    if held:
        found.append(held.group())
    return found


class _Held:
    """A number in the making."""

    def __init__(self, first: int) -> None:
        self.first, self.last = first, first + 1
        self.total, self.now, self.begun = 0, 0, False

    def takes(self, part: int, language: str) -> bool:
        """Add a part when it goes on with the number; whether it did."""
        rest = self.now % HUNDRED
        if not self.begun:
            self.now, fits = part, True
        elif part == THOUSAND:
            fits = self.total == 0
            self.total, self.now = (max(1, self.now) * THOUSAND, 0) if fits else (self.total, self.now)
        elif part == HUNDRED:
            fits = 0 < self.now < HUNDRED or (self.now == 0 and self.total > 0)
            self.now = max(1, self.now) * HUNDRED if fits else self.now
        elif language == "fr" and part == 20 and self.now % HUNDRED == 4:
            self.now, fits = self.now - 4 + 80, True
        elif language == "fr" and ((10 <= part < 20 and rest in (60, 80)) or (7 <= part < 10 and rest in (10, 70, 90))):
            self.now, fits = self.now + part, True
        elif part > HUNDRED:
            fits = self.now == 0 and self.total > 0
            self.now += part if fits else 0
        else:
            fits = (rest == 0 and (self.now > 0 or self.total > 0)) or (0 < part < 10 and rest >= 20 and rest % 10 == 0)
            self.now += part if fits else 0
        if self.now == THOUSAND and not self.begun:
            self.total, self.now = THOUSAND, 0
        self.begun = True
        return fits

    def group(self) -> Group:
        value = self.total + self.now
        return Group(value, str(value), self.first, self.last)


MARKS = {
    **dict.fromkeys(("dot", "point", "punkt", "punto", "punt", "ponto", "punktum", "kropka"), "."),
    **dict.fromkeys(("at", "arobase", "arroba", "chiocciola", "apenstaartje", "snabela", "klammeraffe", "malpa"), "@"),
    **dict.fromkeys(("dash", "hyphen", "minus", "bindestrich", "tiret", "guion", "trattino", "streepje", "hifen"), "-"),
    **dict.fromkeys(("underscore", "unterstrich", "tiretbas"), "_"),
}


def read_out(text: str, language: str | None) -> str:
    """What is meant by a text that is read out: "b dot fern eighty-eight at moss dot example" is b.fern88@moss.example."""
    words = tokens(text)
    by_first = {group.first: group for group in groups(words, language)}
    found, at = "", 0
    while at < len(words):
        group = by_first.get(at)
        found += group.figures if group else MARKS.get(plain(words[at]), words[at])
        at = group.last if group else at + 1
    return found
