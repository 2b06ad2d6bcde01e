"""Telephone numbers to the form of E.164 (ITU-T), by the numbering plan of the country that a document is from."""

from __future__ import annotations

import re
from functools import lru_cache

import phonenumbers

LONGEST = 40  # characters
_LABEL = re.compile(r"^\W*(?:tel|phone|telephone|telefon|fon|mobile|mob|fax|ph|t)\b[.:]*", re.IGNORECASE)
_WORDS = re.compile(r"[^\W\d_]{2}")


@lru_cache(maxsize=4096)
def parse_phone(text: str, country: str | None = None) -> str | None:
    """A number such as +441632960143, or None when `text` is no possible number.

    `country`: ISO 3166 code that decides numbers without a country code; without it these are not read.
    """
    if len(text) > LONGEST or _WORDS.search(_LABEL.sub("", text)):
        return None
    try:
        number = phonenumbers.parse(text.replace("(0)", ""), country)
    except phonenumbers.NumberParseException:
        return None
    if not phonenumbers.is_possible_number(number):
        return None
    return str(phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164))


def known_country(code: str) -> bool:
    """Whether numbers of a country (ISO 3166 code) can be read."""
    return code in phonenumbers.SUPPORTED_REGIONS


def spellings(e164: str) -> list[str]:
    """How a number may be kept where people type it in: in E.164, as it is dialled from abroad, as it is dialled at home."""
    try:
        number = phonenumbers.parse(e164, None)
    except phonenumbers.NumberParseException:
        return [e164]
    forms = (phonenumbers.PhoneNumberFormat.INTERNATIONAL, phonenumbers.PhoneNumberFormat.NATIONAL)
    return list(dict.fromkeys([e164, *(str(phonenumbers.format_number(number, each)) for each in forms)]))


def written_forms(e164: str) -> list[str]:
    """The digits under which a number may stand in a document: with its country code, without, and with a leading 0."""
    try:
        number = phonenumbers.parse(e164, None)
    except phonenumbers.NumberParseException:
        return [e164]
    national = phonenumbers.national_significant_number(number)
    return [f"{number.country_code}{national}", f"{number.country_code}0{national}", f"00{number.country_code}{national}", f"0{national}", national]
