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
_LEAST = 3  # letters of a part of a name that is looked for by itself
_HEADS = frozenset(["curriculum", "vitae", "resume", "résumé", "lebenslauf", "cv", "application", "profile", "personal", "details", "contact"])


@dataclass(frozen=True)
class Blinded:
    """A text without what is not to be seen, and which kinds of it were taken out."""

    text: str
    kinds: tuple[str, ...]


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
        kept.append(line)
    return Blinded("\n".join(kept), tuple(each for each in KINDS if each in found))


def _without_names(lines: Sequence[str], hide: Sequence[str], found: dict[str, None]) -> list[str]:
    names = [each.strip() for each in hide if len(each.strip()) >= _LEAST]
    first = next((line.strip() for line in lines[:6] if _NAME.match(line.strip()) and not set(fold(line).split()) & _HEADS), "")
    names += [first] if first and not names else []
    parts = {part for name in names for part in re.split(r"[\s,]+", name) if len(part.strip(".")) >= _LEAST and part[0].isupper()}
    wanted = sorted({*names, *parts}, key=len, reverse=True)
    pattern = re.compile("|".join(rf"\b{re.escape(each)}\b" for each in wanted), re.IGNORECASE) if wanted else None
    kept = []
    for line in lines:
        without = _MAIL.sub("[mail]", line)
        without = pattern.sub("[name]", without) if pattern else without
        without = re.sub(r"\[name\](?:\s+\[name\])+", "[name]", without)
        if without != line:
            found["name"] = None
        kept.append(without)
    return kept


def _labelled(line: str, labels: str) -> bool:
    """Whether a line begins with one of some labels, such as "Date of birth: …"."""
    head = fold(re.split(r"[:\t]|\s{3,}", line.strip(), maxsplit=1)[0]).strip(" .-–•*")
    every = labels.split("|") if "|" in labels else labels.split()
    apart = re.search(r"[:\t]|\s{3,}", line.strip()) is not None and head in every
    return apart or any(fold(line).strip().startswith(f"{each} ") for each in every if " " in each)
