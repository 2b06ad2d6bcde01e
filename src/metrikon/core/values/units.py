"""Units of quantities by their codes (UN/ECE Recommendation 20), as invoices name them in several languages."""

from __future__ import annotations

from metrikon.core.values.text import fold

_NAMES = {
    "H87": "pc pcs piece pieces each ea stk stuck stueck st pce piece pieces pièce pièces stuks stks pz u unit units",
    "KGM": "kg kilo kilogram kilograms kilogramm",
    "GRM": "g gr gram grams gramm gramme grammes",
    "TNE": "t tonne tonnes tonnen ton",
    "LTR": "l ltr litre litres liter",
    "MLT": "ml millilitre milliliter",
    "MTR": "m metre metres meter metres",
    "CMT": "cm centimetre zentimeter",
    "MTK": "m2 m² sqm qm",
    "MTQ": "m3 m³ cbm",
    "HUR": "h hr hrs hour hours std stunde stunden heure heures uur",
    "DAY": "day days tag tage jour jours dag dagen",
    "BG": "bag bags sack sacke sac sacs zak zakken beutel",
    "PK": "pack packs packet packets packung pak paquet",
    "BX": "box boxes karton kiste carton doos",
    "TY": "tray trays palette schale plateau plaat",
    "SET": "set sets satz jeu",
    "PR": "pair pairs paar paire",
    "BE": "bundle bundles bund bundel botte bos",
}  # fmt: skip
_CODES = {fold(name): code for code, names in _NAMES.items() for name in names.split()}


def unit_code(text: str) -> str | None:
    """The code of a unit, or None when it is not known: "Stk." gives H87."""
    return text.strip() if text.strip() in _NAMES else _CODES.get(fold(text))
