"""The country that a document names: by the name of one in which its language is spoken, by the way addresses are written there."""

from __future__ import annotations

import re

_OF_LANGUAGE = {
    "en": {"IE": r"ireland|éire|\bco\. ?(?:carlow|cavan|clare|cork|donegal|dublin|galway|kerry|kildare|kilkenny|laois|leitrim|limerick|longford|louth|mayo|meath|"
           r"monaghan|offaly|roscommon|sligo|tipperary|waterford|westmeath|wexford|wicklow)\b|\bdublin \d{1,2}\b",
           "GB": r"united kingdom|england|scotland|wales|northern ireland|\bco\. ?(?:antrim|armagh|down|fermanagh|londonderry|tyrone|durham)\b",
           "US": r"\busa\b|united states", "AU": r"australia", "NZ": r"new zealand", "CA": r"canada", "ZA": r"south africa"},
    "de": {"AT": r"österreich|austria|\ba-\d{4}\b", "CH": r"schweiz|\bch-\d{4}\b", "DE": r"deutschland|\bd-\d{5}\b", "LI": r"liechtenstein"},
    "fr": {"BE": r"belgique|\bb-\d{4}\b", "CH": r"suisse|\bch-\d{4}\b", "LU": r"luxembourg|\bl-\d{4}\b", "FR": r"\bfrance\b|\bf-\d{5}\b"},
    "nl": {"BE": r"belgië|\bb-\d{4}\b", "NL": r"nederland"},
    "it": {"CH": r"svizzera|\bch-\d{4}\b", "IT": r"\bitalia\b|\bi-\d{5}\b"},
    "es": {"MX": r"\bméxico\b", "AR": r"\bargentina\b", "ES": r"\bespaña\b|\be-\d{5}\b"},
    "pt": {"BR": r"\bbrasil\b", "PT": r"\bportugal\b"},
}  # fmt: skip
_PATTERNS = {language: {code: re.compile(pattern) for code, pattern in each.items()} for language, each in _OF_LANGUAGE.items()}


def named_country(text: str, language: str | None) -> str | None:
    """The one country in which the language is spoken (ISO 639-1) that a text names, as ISO 3166; None for none or several."""
    small = text.casefold()
    found = [code for code, pattern in _PATTERNS.get(language or "", {}).items() if pattern.search(small)]
    if found == ["IE", "GB"] and "northern ireland" in small:
        return "GB"
    return found[0] if len(found) == 1 else None
