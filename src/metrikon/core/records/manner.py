"""In what manner a field comes by its value; prompt, evidence, check and confidence follow it.

- *copied*: it stands in the document as it is, spaces and case aside: names, texts, numbers.
- *mapped*: its form is another than the print's: a date, a sign for a currency, a telephone number in E.164, a unit.
- *decided*: nobody printed it; it follows from what is said: yes or no, one of some options, a summary.
- *derived*: it is worked out from other values.

The manner is found from type, enum, format, pattern and description, and can be set under `x-metrikon` as `manner`.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

COPIED, MAPPED, DECIDED, DERIVED = "copied", "mapped", "decided", "derived"
MANNERS = (COPIED, MAPPED, DECIDED, DERIVED)
_MAPPED_KINDS = {
    "date",
    "moment",
    "month",
    "time",
    "phone",
    "currency",
    "unit",
    "title",
    "iban",
    "vat number",
    "article number",
    "mail",
    "web address",
}
# what asks for words of one's own, in ten languages
_OWN_WORDS = re.compile(
    r"\b(?:summar(?:y|ise|ize)\w*|gist|in your own words|sentences?|describe (?:briefly|in)|briefly|paraphras\w*|explain|why the"
    r"|zusammenfass\w*|kurz gefasst|in eigenen worten|sätzen?|kurzfassung"
    r"|résum\w*|en (?:une|deux|trois|quelques) phrases?|phrases? au plus|synthèse"
    r"|resum\w*|en (?:una|dos|tres|pocas) frases?|síntesis"
    r"|riassun\w*|in (?:una|due|tre|poche) fras[ei]|sintesi"
    r"|samenvat\w*|in (?:één|een|twee|drie|enkele) zin(?:nen)?|zinnen"
    r"|resumo|em (?:uma|duas|três|poucas) frases?|sammenfat\w*|sætninger|sammanfatt\w*|meningar|streszcz\w*|podsumow\w*|zdani\w*)\b",
    re.IGNORECASE,
)


def manner_of(schema: Mapping[str, Any], kind: str, name: str, ours: Mapping[str, Any]) -> str:
    """The manner of a field, from its schema, the kind of its values, its name, and what is set."""
    given = ours.get("manner")
    if given in MANNERS:
        return str(given)
    if ours.get("derived") or ours.get("lookup"):
        return DERIVED
    if kind == "yes/no":
        return DECIDED
    if kind == "choice":
        return MAPPED if ours.get("means") else DECIDED
    if kind in _MAPPED_KINDS:
        return MAPPED
    if kind == "text" and not schema.get("pattern"):
        if "evidence" in ours and not ours["evidence"]:
            return DECIDED
        said = " ".join(str(schema.get(part) or "") for part in ("title", "description")) + " " + re.sub(r"(?<=[a-z0-9])(?=[A-Z])|_", " ", name)
        if _OWN_WORDS.search(said):
            return DECIDED
    return COPIED
