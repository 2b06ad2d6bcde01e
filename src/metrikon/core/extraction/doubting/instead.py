"""Values of a model that stand nowhere, or are left out, set against what an independent reading found.

What that reading is certain of, by labels that a builder gave or where the model itself was unsure, takes the place of what stands nowhere.
What it only thinks likely is a doubt beside the model's value and a candidate for it, no more: a count, a difference, a day reckoned from
another stand nowhere and are right all the same.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from typing import Any

from metrikon.core.extraction.doubting.doubts import CERTAIN, TELLING
from metrikon.core.extraction.grounding.ground import by_label, places, stands
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.parsing.readings import UNASKED
from metrikon.core.extraction.state import Doubt, State
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import concept_of, label_fit, words_of
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

OF_A_KIND = frozenset(
    [
        "date",
        "day",
        "datum",
        "tag",
        "jour",
        "fecha",
        "dia",
        "data",
        "giorno",
        "dag",
        "dato",
        "dzien",
        "den",
        "number",
        "no",
        "nr",
        "nummer",
        "numero",
        "num",
        "amount",
        "betrag",
        "montant",
        "importe",
        "importo",
        "bedrag",
        "valor",
        "belob",
        "belopp",
        "kwota",
        "castka",
    ]
)  # words that say only what kind of value stands there
FITS = 0.5  # of a line and a field, from which it may be a word for it
MOST_PLACES = 20  # of a value at which such a word is looked for
_FIGURED = re.compile(r"\S*\d\S*")
LIKELY = 0.5  # of what was read besides, where the model gave what stands nowhere
_SHAPED = ("phone", "mail", "iban", "web address", "currency", "date", "time", "moment")  # kinds that show by their form what they are


@dataclass
class _Made:
    """What becomes of the answers beside an independent reading."""

    record: dict[str, Any]
    replaced: set[str]
    beside: list[Finding]
    doubts: list[Doubt] = field(default_factory=list)
    confirmed: set[str] = field(default_factory=set)
    insisted: set[str] = field(default_factory=set)
    changes: list[str] = field(default_factory=list)

    def take(self, of: Field, value: Any, instead: Any, answers: bool) -> None:
        """The other reading's value stands in the place of the model's."""
        self.record[of.name] = instead
        self.replaced.add(of.shape)
        was = "was left out" if value is None else f"{str(value)[:40]!r} {_lost(answers)}"
        self.changes.append(f"{of.shape}: it {was}; {str(instead)[:40]!r}, which stands by its label, was taken.")


def set_beside(state: State) -> State:
    """With what an independent reading found beside the answers: certain values in the place of what stands nowhere, doubts otherwise."""
    other = state.other
    if not other.record:
        return state
    made = _Made(dict(state.record), set(state.replaced), list(state.beside))
    for each in state.planned.header:
        value, instead = made.record.get(each.name), other.record.get(each.name)
        if each.shape.count("/") == 1 and instead is not None and instead != value:
            _set_against(each, value, instead, state, made)
    record = {name: made.record[name] for name in state.kind.schema["properties"] if name in made.record}
    return replace(
        state,
        record=record,
        replaced=frozenset(made.replaced),
        beside=tuple(made.beside),
        doubts=tuple(made.doubts),
        confirmed=frozenset(made.confirmed),
        insisted=frozenset(made.insisted),
    ).told(made.changes)


def _set_against(of: Field, value: Any, instead: Any, state: State, made: _Made) -> None:
    """One value of the answers set against what the other reading has in its place."""
    sure = 1.0 if "labels" in of.ours else state.other.sure.get(of.shape, 0.0)
    if _both_stand(of, value, instead, sure, state):
        kept, doubt = _weighed(of, value, instead, state)
        made.confirmed |= {of.shape} if kept else set()
        made.doubts += [doubt] if doubt else []
        return
    answers = value is not None and _who_answers(of, value, instead, state.index)
    if not _weighs(of, value, instead, sure, answers, state.index):
        return
    doubted = state.draft.doubted(of.shape, value)
    if (sure >= CERTAIN and ("labels" in of.ours or doubted)) or _chosen(of, value, instead, state):
        made.take(of, value, instead, answers)
        return
    doubt = Doubt(of.shape, value, instead, _doubt(of, value, instead, answers))
    if value is not None and state.draft.chosen(of.shape) == value:
        made.insisted.add(of.shape)
    if value is not None and doubted:
        made.beside.append(doubt.finding)  # it takes the place of what the model itself was unsure of, and a person looks
        made.take(of, value, instead, answers)
    elif not _said_again(state, of, value):
        made.doubts.append(doubt)


def _both_stand(field: Field, value: Any, instead: Any, sure: float, state: State) -> bool:
    """Whether two readings that count came to different values, and both are in the document: the model is asked which it is."""
    index = state.index
    counts = "labels" not in field.ours and value is not None and sure >= TELLING and not _who_answers(field, value, instead, index)
    return counts and stands(field, value, index) and stands(field, instead, index)


def _weighed(field: Field, value: Any, instead: Any, state: State) -> tuple[bool, Doubt | None]:
    """(whether the model's value is confirmed, the doubt while it is open).

    The answer counts where the value stands by a word for its field, or the other one does so as little; the sign of a currency is its word.
    """
    chosen = state.draft.chosen(field.shape)
    if chosen is not UNASKED:
        index = state.index
        named = field.kind == "currency" or called_so(field, value, index) or not called_so(field, instead, index)
        return chosen == value and named, None
    message = f"{field.title} was read as {str(value)[:60]}, but {str(instead)[:60]} stands where it may be called so. Compare it."
    finding = Finding("readings differ", "warn", message, (field.shape,), {"first": str(value), "second": str(instead)})
    return False, Doubt(field.shape, value, instead, finding)


def called_so(field: Field, value: Any, index: Index) -> bool:
    """Whether a value stands on a line, or below one, that has a word for its field."""
    for place in places(field, value, index)[:MOST_PLACES]:
        page = index.pages[place.page]
        at = page.line_of[place.words[0]]
        for line in page.lines[max(0, at - 1) : at + 1]:
            if label_fit(field, _telling(field, _FIGURED.sub(" ", line.text))) >= FITS:
                return True
    return by_label(field, value, index)


def _telling(field: Field, text: str) -> str:
    """A line without the words that say only what kind of value stands there, such as "date", where the field asks for more than that."""
    own = {word for word in words_of(f"{field.worded} {field.schema.get('description') or ''}") if len(word) > 2}
    return " ".join(word for word in text.split() if plain(word).strip(".:") not in OF_A_KIND) if own - OF_A_KIND else text


def _chosen(field: Field, value: Any, instead: Any, state: State) -> bool:
    """Whether the answer to a closed question is what another reading found, which stands in the document."""
    chosen = state.draft.chosen(field.shape)
    return chosen is not UNASKED and chosen == instead


def _said_again(state: State, field: Field, value: Any) -> bool:
    """Whether a model that left a field out says again, asked with the candidate before it, that the document does not say it."""
    return value is None and state.draft.chosen(field.shape) is None


def _weighs(field: Field, value: Any, instead: Any, sure: float, answers: bool, index: Index) -> bool:
    """Whether what an independent reading found says anything against a value: it stands, the value does not, and it is sure enough."""
    if value is not None and not answers and stands(field, value, index):
        return False
    return (answers or sure >= _least(field, value, index)) and stands(field, instead, index)


def _lost(answers: bool) -> str:
    return "is the name of who answers the call" if answers else "stands nowhere"


def _doubt(field: Field, value: Any, instead: Any, answers: bool) -> Finding:
    """What was found without a model, beside a value that stands nowhere or was left out."""
    candidate = str(instead)[:60]
    if value is None:
        message = f"{field.title} was left out by the model, but {candidate} stands where it may be called so. Compare it."
        return Finding("left out", "stop", message, (field.shape,), {"given": "", "candidate": candidate})
    message = f"{field.title} was given as {str(value)[:60]}, which {_lost(answers)}; {candidate} stands where it may be called so. Compare it."
    return Finding("unsupported", "stop", message, (field.shape,), {"given": str(value), "candidate": candidate})


def _who_answers(field: Field, value: Any, instead: Any, index: Index) -> bool:
    """Whether the name of a caller is said only by who speaks first, and another name by another speaker."""
    sentences = index.document.sentences
    if not sentences or concept_of(field) not in ("person", "receiver") or not (isinstance(value, str) and isinstance(instead, str)):
        return False
    first = sentences[0].speaker
    said = [each.speaker for each in sentences if squeezed(value) in squeezed(each.text)]
    return bool(said) and set(said) == {first} and any(squeezed(instead) in squeezed(each.text) and each.speaker != first for each in sentences)


def _least(field: Field, value: Any, index: Index) -> float:
    """How sure the other reading must be: of shaped values little, of amounts little in print, where much is said of anything."""
    if field.kind in _SHAPED or (field.kind == "amount" and (value is not None or not index.document.sentences)):
        return LIKELY
    return CERTAIN if value is None or field.kind == "text" else LIKELY
