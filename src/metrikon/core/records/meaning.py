"""What a field means, and how well a label in a document fits it: by the lexicon of the trade and by the field's own words.

Names of fields and their descriptions are all that is known of a record type; labels that it gives count as names.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache

from metrikon.core.records.lexicon import concepts_in, words_of
from metrikon.core.records.types import Field, worded

AMOUNTS = frozenset([
    "net", "tax", "tax rate", "gross", "paid", "balance", "discount", "shipping", "tip", "change", "withholding", "rounding", "exchange rate",
    "quantity", "unit price", "line amount", "duration", "guests", "price", "salary", "quantity of fuel", "finished", "payment terms", "table"
])  # fmt: skip
DATES = frozenset(
    ["date", "due date", "service date", "paid date", "valid until", "valid from", "birthday", "updated", "begin", "end", "entry", "exit", "finished"]
)
TIMES = frozenset(["time", "opening", "closing", "begin", "end", "entry", "exit"])
OF_ROWS = {"net": "line amount", "gross": "line amount", "price": "unit price", "sender": "employer", "page title": "description"}
OF_KIND = {
    "amount": AMOUNTS,
    "date": DATES,
    "month": DATES,
    "moment": DATES | TIMES,
    "time": TIMES,
    "phone": frozenset(("phone", "mobile", "other phone", "fax")),
    "mail": frozenset(("mail",)),
    "web address": frozenset(("web",)),
    "iban": frozenset(("iban",)),
    "currency": frozenset(("currency",)),
    "vat number": frozenset(("tax id",)),
}
MONEY = frozenset([
    "net", "tax", "gross", "paid", "balance", "discount", "shipping", "tip", "change", "withholding", "rounding", "unit price", "line amount",
    "price", "salary"
])  # fmt: skip
CODES = frozenset([
    "number", "order number", "quote number", "delivery note", "customer number", "earlier invoice", "article number", "tax id", "iban", "bic",
    "card", "licence plate", "postcode", "register", "table"
])  # fmt: skip
STEM = 5
_EMPTY = frozenset([
    "the", "of", "a", "an", "in", "on", "at", "to", "for", "and", "or", "if", "not", "is", "as", "by", "with", "without", "from", "its", "this",
    "that", "der", "die", "das", "des", "dem", "den", "ein", "eine", "im", "in", "am", "an", "auf", "zu", "zum", "zur", "von", "vom", "mit",
    "ohne", "und", "oder", "wie", "als", "ob", "le", "la", "les", "l", "un", "une", "du", "de", "des", "d", "et", "ou", "en", "au", "aux",
    "sur", "par", "pour", "sans", "avec", "el", "los", "las", "del", "y", "o", "con", "sin", "por", "para", "il", "lo", "gli", "di", "della",
    "dello", "dei", "delle", "e", "senza", "per", "het", "een", "van", "voor", "met", "zonder", "en", "of", "te", "op", "bij", "og", "eller",
    "med", "av", "od", "z", "w", "na", "printed", "only", "given", "name", "value", "field", "iso", "code", "positive", "number", "text", "wie",
    "angegeben", "falls", "comme", "indique", "no"
])  # fmt: skip


_EXCEPT = frozenset(
    words_of(
        "without excluding excl ex before ohne exkl hors sans sin excluido senza esclusa escluso zonder exclusief sem "
        "uden ekskl utan bez vor avant antes prima voor"
    )
)


@lru_cache(maxsize=4096)
def meaning(field: Field) -> tuple[tuple[str, float], ...]:
    """The concepts that a field may stand for, likeliest first, each with a weight from 0 to 1."""
    found: dict[str, float] = {}
    allowed = OF_KIND.get(field.kind)
    rows = "/*/" in field.shape
    for number, (text, weight) in enumerate(_said(field)):
        named = number == 0
        words = words_of(text)
        stood = concepts_in(text)
        until = next((at for at, word in enumerate(words) if word in _EXCEPT and _parts(stood, at)), len(words))
        if not named and words and words[0] in _EXCEPT:
            continue  # "without tax" says only what it is not about
        words = words[:until]  # "net amount without tax" is about the amount
        for concept, at, length in stood:
            if at + length > until:
                continue
            if (
                concept in ("begin", "end", "valid from", "valid until", "receiver")
                and length == 1
                and len(words[at]) <= 3
                and not (named and len(words) <= 2)
            ):
                continue  # a small word of the sentence
            own = OF_ROWS.get(concept, concept) if rows else "gross" if concept == "line amount" else concept
            if (allowed is not None and own not in allowed) or (
                allowed is None and own in (AMOUNTS | DATES | TIMES) - {"begin", "end", "table", "finished"} and field.kind == "text"
            ):
                continue
            # what a description begins with is what it is about
            score = weight * (0.45 + 0.4 * length / max(1, len(words)) + 0.15 * (1 - at / max(1, len(words))) + 0.05 * length)
            found[own] = max(found.get(own, 0.0), min(1.0, score))
    return tuple(sorted(found.items(), key=lambda each: -each[1])[:4])


def _parts(stood: Sequence[tuple[str, int, int]], at: int) -> bool:
    """Whether a word parts what is meant from what is left out of it: a concept stands before it, and none takes it in."""
    return any(first + count <= at for _, first, count in stood) and not any(first <= at < first + count for _, first, count in stood)


_ONLY_A_KIND = frozenset(
    [
        "amount",
        "value",
        "betrag",
        "wert",
        "montant",
        "valeur",
        "importe",
        "valor",
        "importo",
        "valore",
        "bedrag",
        "waarde",
        "quantia",
        "kwota",
        "wartosc",
        "belopp",
        "belob",
        "varde",
        "castka",
        "hodnota",
        "in",
        "eur",
        "euro",
        "euros",
        "of",
        "the",
        "de",
    ]
)  # words of a description that tell a sum of money, and not which


def _said(field: Field) -> list[tuple[str, float]]:
    about = re.split(r"[;:(\[]|\. ", str(field.schema.get("description") or ""))[0]
    only_kind = set(words_of(about)) <= _ONLY_A_KIND
    said = [(field.worded, 0.8), (about, 0.5 if only_kind else 1.0)]
    if (within := field.within) is not None:
        said.append((f"{within} {field.worded}", 0.9))
    if field.schema.get("title"):
        said.append((str(field.schema["title"]), 1.0))
    return said + [(str(label), 1.0) for label in field.ours.get("labels") or ()]


@lru_cache(maxsize=4096)
def own_stems(field: Field) -> tuple[frozenset[str], frozenset[str]]:
    """The stems of the words of a field's name and title, and of its description."""
    name = frozenset(_stems(f"{re.sub(r'(?<=[a-z])(?=[A-Z])', ' ', field.name.replace('_', ' '))} {field.schema.get('title') or ''}"))
    return name, frozenset(_stems(str(field.schema.get("description") or "")))


@lru_cache(maxsize=4096)
def words_of_its_own(field: Field) -> frozenset[str]:
    """The stems of the words of a field's name that no concept of the trade takes in, such as "stamped"."""
    text = field.worded
    taken = {at for _, first, count in concepts_in(text) for at in range(first, first + count)}
    return frozenset(_stems(" ".join(word for at, word in enumerate(words_of(text)) if at not in taken)))


SHORTEST_AKIN = 4  # letters of a word that two names have in common


def akin(one: str, two: str) -> bool:
    """Whether two names have a word in common, whole or as the beginning of the other's: "job" and "jobs", "Kind" and "Kinder"."""
    ones, twos = ([word for word in words_of(worded(text)) if len(word) >= SHORTEST_AKIN] for text in (one, two))
    return any(a.startswith(b) or b.startswith(a) for a in ones for b in twos)


def stems_of(texts: Iterable[str]) -> frozenset[str]:
    """The stems of the words of some labels."""
    return frozenset().union(*(_stems(text) for text in texts))


def _stems(text: str) -> set[str]:
    """The stems of the words that say something; what is left out ("without tax") is not what is meant."""
    words = words_of(text)
    said = (word for before, word in zip(("", *words), words, strict=False) if before not in _EXCEPT and word not in _EXCEPT)
    return {word[:STEM] for word in said if len(word) >= 3 and word not in _EMPTY}


@lru_cache(maxsize=65536)
def label_fit(field: Field, label: str) -> float:
    """How well a label fits a field, from 0 to 1."""
    words = words_of(label)
    if not words or len(words) > 14:
        return 0.0
    figures = [word for word in words if word.isdecimal()]
    said = [word for word in words if not word.isdecimal()]
    if not said:
        return 0.0
    own = dict(meaning(field))
    rows = "/*/" in field.shape
    best, other = 0.0, 0.0
    for concept, at, length in concepts_in(label):
        concept = OF_ROWS.get(concept, concept) if rows else concept
        near = (at + length) / len(words)  # the end of a label is nearest to its value
        score = 0.5 + 0.35 * length / len(said) + 0.1 * near
        if concept in own:
            best = max(best, score * (0.7 + 0.3 * own[concept]))
        else:
            other = max(other, score)
    name, about = own_stems(field)
    here = _stems(label)
    shared = here & (name | about)
    if shared:
        covered = len(shared) / len(here)
        whole = len(here & name) / len(name) if name else 0.0
        words_fit = 0.25 + 0.45 * covered + 0.25 * whole
        best = min(1.0, max(best, words_fit) + (0.08 if best and covered >= 0.5 else 0.0))
    if other > best:
        best *= 0.75
    wanted = _rates(field)
    if wanted:
        best = min(1.0, best + 0.15) if wanted & set(figures) else best * 0.5
    return best


@lru_cache(maxsize=4096)
def _rates(field: Field) -> frozenset[str]:
    """Figures that a field's name or description names, such as a rate: "TVA à 10 %", "vat_20"."""
    return frozenset(
        re.findall(r"(?<![\d-])\d{1,2}(?=\s?%|$|_|\b)", f"{field.name.replace('_', ' ')} {field.schema.get('title') or ''}")
    ) | frozenset(re.findall(r"(\d{1,2})(?:[.,]\d+)?\s?%", str(field.schema.get("description") or "")))


def concept_of(field: Field) -> str:
    """The likeliest concept of a field; nothing when none is known."""
    return next((concept for concept, _ in meaning(field)), "")


_SHARE = re.compile(r"pct|percent|per cent|prozent|prosent|porcent|pourcent|procent|rate(?!n)|satz|taux|tipo|aliquota|tarief|%")


@lru_cache(maxsize=4096)
def a_share(field: Field) -> bool:
    """Whether a field holds so many per cent and no sum of money."""
    return bool(_SHARE.search(f"{field.name} {field.title}".casefold()))


@lru_cache(maxsize=4096)
def a_sum(field: Field) -> bool:
    """Whether a field holds a sum of money."""
    return concept_of(field) in MONEY and not a_share(field)
