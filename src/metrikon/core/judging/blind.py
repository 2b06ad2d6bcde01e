"""What a judging model is not shown: names, sex, age, origin and the like, unless a criterion needs them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from metrikon.core.values.text import fold

KINDS = ("name", "sex", "age", "origin", "family", "belief")
_LABELS = {
    "sex": "sex gender geschlecht sexe anrede salutation sesso genero",
    "age": "date of birth|birth date|born on|born|age|geburtsdatum|geboren am|geboren|alter|ne le|nee le|date de naissance|fecha de nacimiento|data di nascita|geboortedatum",
    "origin": "nationality|citizenship|place of birth|birthplace|origin|native country|staatsangehorigkeit|nationalitat|geburtsort|herkunft|nationalite|lieu de naissance|nacionalidad|cittadinanza|nationaliteit",
    "family": "marital status|family status|children|familienstand|kinder|etat civil|situation familiale|estado civil|stato civile|burgerlijke staat",
    "belief": "religion|confession|konfession|church|party|religione",
}
_SEX = re.compile(
    r"\b(?:(he|she)|(him)|(his|hers|her)|(himself|herself)|(mr|mrs|ms|miss|herr|frau|monsieur|madame|mme|senor|senora|sig|sig\.ra)\.?)(?=\s|[,.;:!?)]|$)",
    re.IGNORECASE,
)
_THEY = ("they", "them", "their", "themselves", "")
_AGE = re.compile(r"\b(?:aged?\s+\d{2}\b|\d{2}[\s-]+years?[\s-]+old|\d{2}\s+jahre\s+alt|\d{2}\s+ans\b(?!\s+d))", re.IGNORECASE)
_MAIL = re.compile(r"[\w.+-]+@[\w-]+\.[\w.-]+")
_NAME = re.compile(r"^(?:[A-ZÀ-Þ][\w'’.-]*)(?:\s+(?:[A-ZÀ-Þ][\w'’.-]*|de|da|di|du|van|von|der|den|la|le)){1,4}$")
_PLACE = r"[A-ZÀ-Þ][\w'’-]+(?:,?\s+[A-ZÀ-Þ][\w'’-]+){0,3}"
_FEW = r"(?:\d|one|two|three|four|five|zwei|drei|vier|deux|trois|quatre|dos|tres|cuatro|due|tre|quattro|twee|drie|vier)"
_CHILDREN = r"(?:children|kids|sons?|daughters?|kindern?|söhne|töchter|enfants?|fils|filles?|hij[oa]s?|figli[oae]?|kinderen)"
_YEARS = r"(?:years?|jahren?|ans|años|anni|jaar)"
# what running text says of a person, in six languages; each needs the words around it, so that "children of the school" stays
_IN_SENTENCES = {
    "origin": re.compile(
        rf"\b(?i:born(?: and raised| and grew up)? in|raised in|native of|originally from|(?:i )?(?:come|came|comes) from|geboren in|geboren und aufgewachsen in|aufgewachsen in"
        rf"|(?:stamm[et]|komme|kommt) aus|née? à|originaire d[eu]|nacid[oa] en|originari[oa] d[eai]|nat[oa] (?:a|in)|afkomstig uit)\s+{_PLACE}"
        rf"|\b[A-ZÀ-Þ][a-zà-ÿ]+\s(?i:citizen|national|nationality|passport|staatsbürger(?:in)?)\b"
    ),
    "age": re.compile(
        rf"\b(?P<who>woman|lady|man|girl|boy|person|frau|mann|femme|homme|mujer|hombre|donna|uomo|vrouw)\s(?:of|de|di|van|von)\s\d{{2}}(?:\s{_YEARS})?\b"
        rf"|\b(?:i am|she is|he is|they are|ich bin|j'ai|tengo|ho|ik ben)\s\d{{2}}\b(?!\s*(?:%|{_FEW}?\s?(?:km|kg)))"
        rf"|\b(?:âgée?s? de|im alter von)\s\d{{2}}\b"
        r"|\b(?:born (?:on|in)|geb(?:oren)?\.? (?:am|im)|née? (?:le|en)|nacid[oa] (?:el|en)|nat[oa] (?:il|nel))\s[^,.;\n]{0,16}(?:19|20)\d\d\b|\bjahrgang\s(?:19|20)\d\d\b",
        re.IGNORECASE,
    ),
    "family": re.compile(
        rf"\b(?:(?:happily )?married|divorced|widowed|widower?|single(?=[,.;]| and | with )|verheiratet|ledig|geschieden|verwitwet|mariée?|célibataire|divorcée?|casad[oa]|solter[oa]|divorciad[oa]"
        rf"|sposat[oa]|celibe|nubile|gehuwd|ongehuwd)\b(?:,?\s(?:and|with|und|mit|et|avec|y|con|e|met|en))?(?:\s(?:a\s)?(?:mother|father)\sof)?(?:,?\s{_FEW}(?:\s\w+)?\s{_CHILDREN}\b)?"
        rf"|\b(?:mother|father|parent|mutter|vater|mère|père|madre|padre|moeder|vader)\s(?:of|von|de|di|van)\s(?:{_FEW}(?:\s{_CHILDREN})?|an?\s\w+)\b|\b(?:i|we) have {_FEW} (?:\w+ )?{_CHILDREN}\b",
        re.IGNORECASE,
    ),
    "sex": re.compile(
        r"\b(?:a|eine?|une?|una|een)\s(?:young\s|jungen?\s|jeune\s|joven\s|giovane\s|jonge\s)?(?:woman|man|female|male|lady|gentleman|girl|boy|frau|mann|femme|homme|mujer|hombre|donna|uomo|vrouw)\b(?!['’-])",
        re.IGNORECASE,
    ),
    "belief": re.compile(
        r"\b(?:practi[sc]ing |devout )?(?:catholic|protestant|muslim|moslem|jewish|hindu|buddhist|sikh|atheist|katholisch|evangelisch|muslimisch|jüdisch|catholique|musulmane?|juive?|católic[oa]|musulmán|musulmana"
        r"|cattolic[oa]|musulmano|ebre[oa]|katholiek|moslim|joods)\b|\bmember of the [A-Z]\w+ (?:party|church)\b",
        re.IGNORECASE,
    ),
}
_LEAST = 3  # letters of a part of a name that is looked for by itself
_APART = re.compile(r"\s{3,}|\t|\s[·|•–-]\s|,")
_HEADS = frozenset(["curriculum", "vitae", "resume", "résumé", "lebenslauf", "cv", "application", "profile", "personal", "details", "contact"])


@dataclass(frozen=True)
class Blinded:
    """A text without what is not to be seen; which kinds of it were taken out, and which may still be seen because nothing tells where they stand."""

    text: str
    kinds: tuple[str, ...]
    open: tuple[str, ...] = ()


def blinded(text: str, hide: Sequence[str] = (), shown: Iterable[str] = ()) -> Blinded:
    """A text as a judging model sees it. `hide`: names that are known; `shown`: kinds that a criterion needs, of `KINDS`."""
    found: dict[str, None] = {}
    seen = set(shown)
    lines = text.splitlines()
    if "name" not in seen:
        lines = _without_names(lines, hide, found)
    kept = []
    for line in lines:
        for kind, labels in _LABELS.items():
            if kind not in seen and _labelled(line, labels):
                found[kind] = None
                line = "[left out]"
        if "age" not in seen and _AGE.search(line):
            found["age"] = None
            line = _AGE.sub("[age]", line)
        if "sex" not in seen and _SEX.search(line):
            found["sex"] = None
            line = _SEX.sub(lambda match: _THEY[next(n for n, group in enumerate(match.groups()) if group)], line)
        kept.append(_sentences(line, seen, found))
    told = "\n".join(kept)
    still = _open(text, told, hide, seen)
    return Blinded(told, tuple(each for each in KINDS if each in found and each not in still), still)


def _sentences(line: str, seen: set[str], found: dict[str, None]) -> str:
    """A line without what its sentences say of a person."""
    for kind, pattern in _IN_SENTENCES.items():
        if kind not in seen and pattern.search(line):
            found[kind] = None
            line = pattern.sub(lambda match, kind=kind: _in_place(match, kind), line)  # type: ignore[misc]
    return line


def _in_place(match: re.Match[str], kind: str) -> str:
    """What stands in the place of what was taken out; whom it is said of is another matter."""
    who = match.groupdict().get("who")
    return f"{who} [{kind}]" if who else f"[{kind}]"


def _open(text: str, told: str, hide: Sequence[str], seen: set[str]) -> tuple[str, ...]:
    """Kinds of which the text that goes out may still tell: looked up in that very text, and not in what was meant to be taken out."""
    if "name" in seen:
        return ()
    parts = _parts_of_names(text.splitlines(), hide)
    stays = any(re.search(rf"(?<![^\W_]){re.escape(part)}(?![^\W_])", told, re.IGNORECASE) for part in parts)
    return ("name",) if stays else ()


def _parts_of_names(lines: Sequence[str], hide: Sequence[str]) -> list[str]:
    """The names that are known, or the one that stands at the head of a paper, and their parts; the longest first."""
    names = [each.strip() for each in hide if len(each.strip()) >= _LEAST]
    pieces = (piece.strip() for line in lines[:6] for piece in _APART.split(line))  # a name often shares its line with an address
    first = next((piece for piece in pieces if _NAME.match(piece) and not set(fold(piece).split()) & _HEADS), "")
    names += [first] if first and not names else []
    parts = {part for name in names for part in re.split(r"[\s,]+", name) if len(part.strip(".")) >= _LEAST and part[0].isupper()}
    return sorted({*names, *parts}, key=len, reverse=True)


def _without_names(lines: Sequence[str], hide: Sequence[str], found: dict[str, None]) -> list[str]:
    wanted = _parts_of_names(lines, hide)
    pattern = re.compile("|".join(rf"\b{re.escape(each)}\b" for each in wanted), re.IGNORECASE) if wanted else None
    kept = []
    for line in lines:
        without = _MAIL.sub("[mail]", line)
        named = pattern.sub("[name]", without) if pattern else without
        if named != without:
            found["name"] = None
        kept.append(re.sub(r"\[name\](?:\s+\[name\])+", "[name]", named))
    return kept


def _labelled(line: str, labels: str) -> bool:
    """Whether a line begins with one of some labels, such as "Date of birth: …"."""
    head = fold(re.split(r"[:\t]|\s{3,}", line.strip(), maxsplit=1)[0]).strip(" .-–•*")
    every = labels.split("|") if "|" in labels else labels.split()
    apart = re.search(r"[:\t]|\s{3,}", line.strip()) is not None and head in every
    return apart or any(fold(line).strip().startswith(f"{each} ") for each in every if " " in each)
