"""Numbers of papers that are words without a figure: a name was given for an order number."""

from __future__ import annotations

import re
from collections.abc import Iterator

from metrikon.core.extraction.state import State
from metrikon.core.records.check import Check
from metrikon.core.records.findings import Finding
from metrikon.core.records.manner import COPIED
from metrikon.core.records.pointers import leaves, shape
from metrikon.core.values.number_words import plain

_NUMBER = re.compile(
    r"\b(?:number|no|nr|nummer|num|numero|numer|cislo|nummeret|iban|bic number|vat id|vat number|nif|nip|siret|kvk|cvr|ico|nipc|orgnr|org no|plz|zip|zip code|postcode|postal code"
    r"|code postal|codigo postal|postnr|postnummer|kod pocztowy|psc|cap)$"
)


def run(state: State) -> Iterator[Finding]:
    """Texts of fields whose name says that they are numbers, without any figure."""
    for pointer, value in leaves(state.record):
        field = state.kind.by_shape.get(shape(pointer))
        if field is None or field.kind != "text" or field.manner != COPIED or not isinstance(value, str) or state.evidence[pointer].how == "person":
            continue
        in_words = " " in value.strip() and any(sign.islower() for sign in value)  # a code of letters alone may be one
        if in_words and _NUMBER.search(plain(field.worded)) and not any(sign.isdecimal() for sign in value):
            message = f"{state.kind.titled(pointer)} is given as {value[:60]}, which holds no figure."
            yield Finding("no figure", "stop", message, (pointer,))


CHECK = Check(("no figure",), "Whether what is called a number holds a figure.", run, models_only=True, mendable=("no figure",), rank=60)
