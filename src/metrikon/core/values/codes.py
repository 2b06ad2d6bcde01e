"""Numbers that check themselves: IBAN (ISO 13616), EAN and GTIN (GS1), and VAT numbers of European countries.

VAT numbers are checked by the rules that each country publishes and the European Commission lists
for VIES; of countries whose rule is not here only the form is looked at.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

_IBAN_LENGTHS = {
    "AD": 24, "AE": 23, "AT": 20, "BE": 16, "BG": 22, "CH": 21, "CY": 28, "CZ": 24, "DE": 22, "DK": 18, "EE": 20, "ES": 24, "FI": 18,
    "FO": 18, "FR": 27, "GB": 22, "GI": 23, "GR": 27, "HR": 21, "HU": 28, "IE": 22, "IL": 23, "IS": 26, "IT": 27, "LI": 21, "LT": 20,
    "LU": 20, "LV": 21, "MC": 27, "ME": 22, "MT": 31, "NL": 18, "NO": 15, "PL": 28, "PT": 25, "RO": 24, "RS": 22, "SE": 24, "SI": 19,
    "SK": 24, "SM": 27, "TR": 26, "UA": 29,
}  # fmt: skip
_JUNK = re.compile(r"[\s.\-/\u00a0\u202f]")


def compact(text: str) -> str:
    """A code without its spaces and separators, in capitals."""
    return _JUNK.sub("", text).upper()


def iban_problem(text: str) -> str | None:
    """What is wrong with an IBAN, or None when it is right."""
    code = compact(text)
    if not re.fullmatch(r"[A-Z]{2}\d{2}[A-Z0-9]{8,30}", code):
        return "it has not the form of an IBAN"
    wanted = _IBAN_LENGTHS.get(code[:2])
    if wanted is not None and len(code) != wanted:
        return f"it has {len(code)} characters; an IBAN of {code[:2]} has {wanted}"
    if _mod97(code[4:] + code[:4]) != 1:
        return "its check digits do not fit: a character may have been misread"
    return None


def gtin_problem(text: str) -> str | None:
    """What is wrong with an EAN or GTIN of 8, 12, 13 or 14 digits, or None when it is right."""
    code = compact(text)
    if not re.fullmatch(r"\d{8}|\d{12,14}", code):
        return "it has not the 8, 12, 13 or 14 digits of an article number"
    total = sum(int(digit) * (3 if place % 2 == 0 else 1) for place, digit in enumerate(reversed(code[:-1])))
    return None if (10 - total % 10) % 10 == int(code[-1]) else "its check digit does not fit: a digit may have been misread"


def vat_problem(text: str) -> str | None:
    """What is wrong with a VAT number with its country code, or None when nothing is known to be."""
    code = compact(text)
    rule = _VAT.get(code[:2])
    if rule is None:
        return None if re.fullmatch(r"[A-Z]{2}[A-Z0-9]{5,14}", code) else "it has not the form of a VAT number with its country code"
    form, holds = rule
    if not re.fullmatch(form, code[2:]):
        return f"it has not the form of a VAT number of {code[:2]}"
    return None if holds(code[2:]) else "its check digit does not fit: a character may have been misread"


def _mod97(code: str) -> int:
    return int("".join(str(int(c, 36)) for c in code)) % 97


def _weighed(digits: str, weights: Sequence[int]) -> int:
    return sum(int(digit) * weight for digit, weight in zip(digits, weights, strict=False))


def _luhn(digits: str) -> bool:
    doubled = [int(d) * (2 if place % 2 else 1) for place, d in enumerate(reversed(digits))]
    return sum(each - 9 if each > 9 else each for each in doubled) % 10 == 0


def _at(code: str) -> bool:
    digits = code[1:]
    total = sum(int(digits[n]) if n % 2 == 0 else sum(divmod(int(digits[n]) * 2, 10)) for n in range(7))
    return (10 - (total + 4) % 10) % 10 == int(digits[7])


def _de(code: str) -> bool:  # ISO 7064, MOD 11,10
    product = 10
    for digit in code[:8]:
        total = (int(digit) + product) % 10 or 10
        product = 2 * total % 11
    return (11 - product) % 10 == int(code[8])


def _fi(code: str) -> bool:
    rest = _weighed(code, (7, 9, 10, 5, 8, 4, 2)) % 11
    return rest != 1 and (0 if rest == 0 else 11 - rest) == int(code[7])


def _fr(code: str) -> bool:
    key, siren = code[:2], code[2:]
    return _luhn(siren) and (not key.isdecimal() or (12 + 3 * (int(siren) % 97)) % 97 == int(key))


def _gb(code: str) -> bool:
    total = _weighed(code, (8, 7, 6, 5, 4, 3, 2)) + int(code[7:9])
    return total % 97 == 0 or (total + 55) % 97 == 0


def _nl(code: str) -> bool:
    rest = _weighed(code, (9, 8, 7, 6, 5, 4, 3, 2)) % 11
    return rest == int(code[8]) or _mod97("NL" + code) == 1


def _pt(code: str) -> bool:
    check = 11 - _weighed(code, (9, 8, 7, 6, 5, 4, 3, 2)) % 11
    return (0 if check >= 10 else check) == int(code[8])


def _ch(code: str) -> bool:
    digits = code[1:10]  # CHE and nine digits; E stands first here
    check = 11 - _weighed(digits, (5, 4, 3, 2, 7, 6, 5, 4)) % 11
    return check != 10 and (0 if check == 11 else check) == int(digits[8])


_VAT: dict[str, tuple[str, Callable[[str], bool]]] = {
    "AT": (r"U\d{8}", _at),
    "BE": (r"[01]\d{9}", lambda code: 97 - int(code[:8]) % 97 == int(code[8:])),
    "CH": (r"E\d{9}(?:MWST|TVA|IVA)?", _ch),
    "DE": (r"[1-9]\d{8}", _de),
    "DK": (r"[1-9]\d{7}", lambda code: _weighed(code, (2, 7, 6, 5, 4, 3, 2, 1)) % 11 == 0),
    "FI": (r"\d{8}", _fi),
    "FR": (r"[0-9A-HJ-NP-Z]{2}\d{9}", _fr),
    "GB": (r"\d{9}(?:\d{3})?", _gb),
    "IT": (r"\d{11}", _luhn),
    "LU": (r"\d{8}", lambda code: int(code[:6]) % 89 == int(code[6:])),
    "NL": (r"\d{9}B\d{2}", _nl),
    "PL": (r"\d{10}", lambda code: _weighed(code, (6, 5, 7, 2, 3, 4, 5, 6, 7)) % 11 == int(code[9])),
    "PT": (r"[1-9]\d{8}", _pt),
    "SE": (r"\d{10}01", lambda code: _luhn(code[:10])),
}
