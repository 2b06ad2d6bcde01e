"""What a file says of itself for programs, and where its links lead: values that no person who looks at it can see.

What a program vouches for (an e-invoice, a form field, a file that is data as a whole, the heads of a mail that its reader shows) counts as printed. What
anybody may have put there unseen (meta elements, JSON-LD, the target of a link, the id of a message) is compared as a whole, and is never sure by itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Fact, Link
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.meaning import label_fit
from metrikon.core.records.types import Field
from metrikon.core.values.numbers import parse_number

VOUCHED = 0.95  # how sure what a program vouches for is
UNSEEN = 0.7  # of what nobody sees, where its name is that of the field: it is taken, and shown as doubtful
STRAY = 0.66  # where its name says nothing of the field: just above what is written unattended (`confidence.UNATTENDED`)
GUARDED = ("iban", "vat number")  # kinds of which nobody must be taken in: what stands only unseen is put before a person
DOUBTED = 0.55  # of these: less than what is taken at all (`support.LEAST_SURE`)
FITS = 0.72  # of a name and a field, as for facts of e-invoices (`planning.facts.LEAST_FIT`)
UNSEEN_SOURCES = ("meta", "json-ld", "microdata", "rdfa")
_IDS = ("message-id", "references", "in-reply-to")  # heads of a mail that no reader of mails shows
_PARTED = re.compile(r"\s[|–—·•»>-]\s|[|•·]|[,;]\s|:\s")  # signs that part what titles and descriptions say
LONGEST = 400  # letters of a text whose parts are looked at
_SCHEME = re.compile(r"^(?:https?://(?:www\.)?|mailto:|tel:)", re.I)


def unseen(fact: Fact) -> bool:
    """Whether a fact stands where no person sees it, and no program vouches for it."""
    return not fact.words and (fact.source in UNSEEN_SOURCES or (fact.source == "header" and fact.name.lower() in _IDS))


def told_by_data(field: Field | None, index: Index, holds: Callable[[str], bool], whole: Callable[[str], bool] | None = None) -> Evidence | None:
    """The fact or the link that tells a value: one that is vouched for before one that is not. `whole`: whether a text is the value as a whole."""
    is_whole = whole or holds
    best: Evidence | None = None
    for fact in index.document.facts:
        hidden = unseen(fact)
        if (is_whole if hidden else holds)(fact.value):
            found = Evidence("fact", 0, None, f"{fact.value} ({fact.source} {fact.path})"[:300], _sure(field, fact) if hidden else VOUCHED)
            if not hidden:
                return found
            best = found if best is None or found.sure > best.sure else best
    for link in index.document.links:
        if best is None and any(map(is_whole, targets(link))):
            guarded = field is not None and field.kind in GUARDED
            best = Evidence("fact", 0, None, f"{link.text}: {link.address}"[:300], DOUBTED if guarded else UNSEEN)
    return best


def _sure(field: Field | None, fact: Fact) -> float:
    """How sure a fact is that nobody sees: by whether it bears the name of the field."""
    if field is not None and field.kind in GUARDED:
        return DOUBTED
    names = (fact.name, fact.path.rpartition("/")[2])
    return UNSEEN if field is None or any(label_fit(field, name) >= FITS for name in names) else STRAY


def targets(link: Link) -> Iterator[str]:
    """Where a link leads, as a value may have it: the whole address, and what is said to whom by it."""
    yield link.address
    bare = _SCHEME.sub("", link.address).partition("?")[0]
    yield bare
    yield bare.rstrip("/")


def in_its_data(field: Field, value: Any, index: Index) -> Evidence | None:
    """A text that stands in what the file says of itself for programs, or is where one of its links leads."""
    wanted = squeezed(str(value)) if isinstance(value, str) else ""
    if len(wanted) < 3:
        return None
    bare = squeezed(_SCHEME.sub("", str(value)).rstrip("/"))
    return told_by_data(
        field, index, lambda text: wanted in squeezed(text), lambda text: {wanted, bare} & {squeezed(each) for each in _wholes(text)} != set()
    )


def _wholes(text: str) -> Iterator[str]:
    """A text, and the parts of it that stand for themselves: "Forest hut | Bookings"."""
    yield text
    yield from _PARTED.split(text) if len(text) < LONGEST else ()


def in_numbers_of_its_data(field: Field, value: Any, index: Index) -> Evidence | None:
    """A number or a day that the file says of itself for programs."""
    if isinstance(value, bool) or not isinstance(value, Decimal | int | str):
        return None
    if isinstance(value, Decimal | int):
        return told_by_data(field, index, lambda text: len(text) < 40 and parse_number(text, ".") == value)
    if field.kind in ("date", "moment") and re.match(r"\d{4}-\d\d-\d\d", value):
        wanted = value[:16] if field.kind == "moment" else value[:10]
        return told_by_data(field, index, lambda text: text.replace(" ", "T").startswith(wanted))
    return None
