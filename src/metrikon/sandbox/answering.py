"""How the stand-in model answers: it looks for the labels that a schema names in the lines of a text.

It is no language model. It sees what a model would see, the prompt, and nothing else.
"""

from __future__ import annotations

import json
import re
from typing import Any

_DOCUMENT = re.compile(r"<document>\n?(.*?)\n?</document>", re.DOTALL)
_WIDE = re.compile(r"\s{3,}")
_DATE = re.compile(r"\d{4}-\d{2}-\d{2}|\d{1,2}[./]\d{1,2}[./]\d{4}|\d{1,2}\.? [^\W\d]{3,10}\.? \d{4}|[A-Z][a-z]{2,9} \d{1,2}, \d{4}")
_AMOUNT = re.compile(r"-?\d[\d.,' \u00a0\u202f]*\d|\d")
_CODE = re.compile(r"[A-Z]{2}\d[\dA-Z ]{6,14}|[A-Za-z]{0,5}[-/]?\d[\w./-]*")
_ISO = re.compile(r"\b(EUR|GBP|USD|CHF|SEK|DKK|NOK)\b")
_SIGN = {"€": "EUR", "£": "GBP", "$": "USD"}
_MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
_OTHER = {"mai": 5, "mei": 5, "mär": 3, "mrz": 3, "maa": 3, "fév": 2, "avr": 4, "jui": 6, "aoû": 8, "okt": 10, "dez": 12, "déc": 12}
_FIELD = re.compile(r"^ *- ([\w.]+): (.*)$", re.MULTILINE)
_NAMES = re.compile(r"Called ([^.]*(?:\.(?!\s|$)[^.]*)*)\.")
_SUMS = ("carried", "brought", "subtotal", "übertrag", "report", "transport", "zwischensumme", "sous-total", "subtotaal")

# what fields with these English names are called in other letters; a model would know this by itself
_CALLED = (
    ("invoice number", "invoice no", "invoice #", "inv no", "document no", "credit note no", "rechnungsnummer", "rechnung nr", "rechnungs-nr", "belegnummer", "gutschrift nr", "facture n°", "numéro de facture", "n° de facture", "factuurnummer", "factuurnr", "avoir n°"),
    ("invoice date", "date of issue", "issued", "date", "rechnungsdatum", "datum", "date de facture", "date d'émission", "factuurdatum"),
    ("due date", "payment due", "please pay by", "due", "zahlbar bis", "fällig am", "fälligkeitsdatum", "échéance", "date d'échéance", "à payer avant le", "vervaldatum", "te betalen voor"),
    ("order number", "your order", "po number", "order no", "your reference", "ihre bestellung", "bestellnummer", "auftragsnummer", "votre commande", "n° de commande", "réf commande", "uw bestelling", "ordernummer", "uw referentie"),
    ("subtotal", "net total", "net amount", "goods total", "nettobetrag", "zwischensumme", "summe netto", "total ht", "montant ht", "sous-total ht", "subtotaal", "totaal excl btw"),
    ("vat", "tax", "sales tax", "plus", "mwst", "zzgl", "ust", "tva", "btw"),
    ("total", "amount due", "invoice total", "total due", "grand total", "credit total", "gesamtbetrag", "rechnungsbetrag", "endbetrag", "zu zahlen", "total ttc", "net à payer", "montant ttc", "totaal", "totaal incl btw", "te betalen"),
    ("vat no", "vat reg no", "vat id", "tax id", "ust-idnr", "ust-id", "n° tva", "tva intracom", "btw-nummer", "btw-id"),
    ("part number", "code", "item no", "part no", "sku", "article", "art-nr", "art -nr", "artikelnr", "artikel", "réf", "référence", "code article"),
    ("description", "item", "plant / article", "details", "bezeichnung", "beschreibung", "artikelbezeichnung", "désignation", "omschrijving", "artikel"),
    ("quantity", "qty", "menge", "anzahl", "qté", "quantité", "aantal"),
    ("unit price", "price", "price each", "rate", "einzelpreis", "preis", "stückpreis", "prix unitaire", "p u ht", "prix unit", "prijs", "stukprijs"),
    ("line total", "amount", "net", "total", "betrag", "gesamt", "gesamtpreis", "montant", "montant ht", "total ht", "bedrag", "totaal"),
)  # fmt: skip


def find_parts(messages: list[dict[str, Any]], response_format: Any) -> tuple[str, dict[str, Any] | None]:
    """(document, schema) of a prompt; the text as a whole and None where it carries none. What the prompt says of a field is put into the schema."""
    text = "\n".join(str(m.get("content", "")) for m in messages if m.get("role") == "user")
    found = _DOCUMENT.search(text)
    schema = ((response_format or {}).get("json_schema") or {}).get("schema")
    if schema is None:
        system = "\n".join(str(m.get("content", "")) for m in messages if m.get("role") == "system")
        schema = _schema_in(system) or _schema_in(text[: found.start()] if found else text)
    if schema is not None and found:
        schema = json.loads(json.dumps(schema))
        _describe(schema, {m.group(1): m.group(2) for m in _FIELD.finditer(text[: found.start()])})
    return (found.group(1) if found else text), schema


def _describe(schema: dict[str, Any], lines: dict[str, str]) -> None:
    """Put what the lines of a prompt say of each field beside it in the schema."""
    for name, part in (schema.get("properties") or {}).items():
        if not isinstance(part, dict):
            continue
        line = lines.get(name, "")
        called = _NAMES.search(line)
        if line and "properties" not in part and "items" not in part:
            part.setdefault("description", line)
            part["x-labels"] = [*part.get("x-labels", ()), *(called.group(1).split(", ") if called else ())]
        _describe(part, lines)
        if isinstance(part.get("items"), dict):
            _describe(part["items"], lines)


def _schema_in(text: str) -> dict[str, Any] | None:
    decoder = json.JSONDecoder()
    for at in (m.start() for m in re.finditer(r"\{", text)):
        try:
            value, _ = decoder.raw_decode(text[at:])
        except ValueError:
            continue
        if isinstance(value, dict) and ("properties" in value or "$defs" in value):
            return value
    return None


_MARK = re.compile(r"\[(?:page \d|\d+ of \d)")  # what is told of the document between its lines


class Answering:
    """One document and one schema."""

    def __init__(self, document: str, schema: dict[str, Any], obey: bool = False) -> None:
        self.obey = obey
        self.schema = schema
        self.lines = [line for line in document.splitlines() if line.strip() and not _MARK.match(line)]
        self.text = document
        self.comma = len(re.findall(r"\d,\d{2}(?!\d)", document)) > len(re.findall(r"\d\.\d{2}(?!\d)", document))

    def answer(self) -> Any:
        """The answer as plain data; with orders in the document followed, if it obeys."""
        found = self._value(self.schema, "", 0)
        if self.obey and isinstance(found, dict):
            found.update(self._ordered())
        return found

    def _ordered(self) -> dict[str, Any]:
        """What orders in the text want each field to be: any sentence that names a field and gives it a value."""
        found: dict[str, Any] = {}
        text = " ".join(self.text.split())
        for name, schema in (self.schema.get("properties") or {}).items():
            said = name.replace("_", " ")
            names = "|".join(re.escape(each) for each in dict.fromkeys((said, said.removeprefix("document "), "iban" if name == "iban" else said)))
            order = rf"(?:set|make|change|replace|use|report|give|answer|write|is|return|setze|correct|real)[^.]{{0,60}}?\b(?:{names})\b[^.]{{0,25}}?(?:to|as|is|with|=|:|auf)\s*[\"“']?([^\"”',;]+?)[\"”']?(?:[,;]|\.\s|\.?$|\s+and\b)"
            match = re.search(order, text, re.IGNORECASE)
            if match and "number" in str(_kind(schema)):
                figure = _AMOUNT.search(match.group(1))
                found.update({name: self._number(figure.group())} if figure else {})
            elif match and schema.get("format") == "date":
                given = _DATE.search(match.group(1))
                found.update({name: _iso(given.group())} if given else {})
            elif match:
                found[name] = match.group(1).strip()
        return found

    def _value(self, schema: dict[str, Any], name: str, depth: int) -> Any:
        schema = self._resolved(schema)
        if depth > 8:
            return None
        if set(schema.get("properties") or ()) & {"columns"}:
            return self._column_names(schema)
        if "properties" in schema:
            # null is an answer, a missing name is none
            return {key: self._value(part, key, depth + 1) for key, part in schema["properties"].items()}
        if schema.get("type") == "array" or "items" in schema:
            return self._rows(self._resolved(schema.get("items", {})))
        return self._leaf(schema, name)

    def _column_names(self, schema: dict[str, Any]) -> dict[str, Any]:
        """Which of the columns offered bears a name of each field."""
        found: dict[str, Any] = {}
        for name, part in schema["properties"]["columns"]["properties"].items():
            labels = self._labels(part, name)
            options = [str(option) for option in part.get("enum", ())]
            best = next((o for label in labels for o in options if _plain(o) == label and o not in found.values()), None)
            found[name] = best or ("none" if "none" in options else None)
        return {"columns": found, **({"not_rows": []} if "not_rows" in schema["properties"] else {})}

    def _resolved(self, schema: dict[str, Any]) -> dict[str, Any]:
        reference = schema.get("$ref", "")
        place: Any = self.schema
        if not reference.startswith("#/"):
            return schema
        for step in reference[2:].split("/"):
            place = place.get(step, {}) if isinstance(place, dict) else {}
        return place if isinstance(place, dict) else {}

    def _leaf(self, schema: dict[str, Any], name: str) -> Any:
        if "enum" in schema:
            return self._choice([option for option in schema["enum"] if option is not None])
        if schema.get("pattern") == "^[A-Z]{3}$" or name == "currency":
            return self._currency()
        kind = _kind(schema)
        labels = self._labels(schema, name)
        if "supplier" in labels or "vendor" in labels:
            return self._letterhead()
        for value in self._beside(labels, kind, schema):
            return value
        return None

    def _labels(self, schema: dict[str, Any], name: str) -> list[str]:
        given = {_plain(label) for label in (*schema.get("x-labels", ()), schema.get("title", ""), name.replace("_", " ")) if label}
        for group in _CALLED:
            if group[0] in given:
                given.update(_plain(label) for label in group)
        return sorted(given, key=lambda label: -len(label))

    def _beside(self, labels: list[str], kind: Any, schema: dict[str, Any]) -> Any:
        """Values beside or under a label, longest labels first; the last amount for numbers."""
        for label in labels:
            for at, line in enumerate(self.lines):
                cells = _WIDE.split(line.strip())
                for number, cell in enumerate(cells):
                    found = self._in_cell(label, cell, cells[number + 1 :], at, number, len(cells), kind, schema)
                    if found is not None:
                        yield found

    def _in_cell(self, label: str, cell: str, rest: list[str], at: int, number: int, width: int, kind: Any, schema: dict[str, Any]) -> Any:
        plain = _plain(cell)
        if not (plain == label or plain.startswith(label + " ")):
            return None
        tail = cell[len(label) :].lstrip(" .:#°") if plain != label else ""
        if kind == "number":
            tail = re.sub(r"\(?@? ?\d+(?:[.,]\d+)? ?%\)?", "", tail)
        for piece in [tail, *rest[:1]]:
            value = self._typed(piece, kind, schema)
            if value is not None:
                return value
        if plain == label and at + 1 < len(self.lines) and kind != "number":
            below = _WIDE.split(self.lines[at + 1].strip())
            if len(below) == width and number < len(below):
                return self._typed(below[number], kind, schema)
        return None

    def _typed(self, text: str, kind: Any, schema: dict[str, Any]) -> Any:
        text = text.strip()
        if not text:
            return None
        if schema.get("format") == "date":
            match = _DATE.search(text)
            return _iso(match.group()) if match else None
        if kind in ("number", "integer"):
            match = _AMOUNT.search(text)
            alone = match and not any(c.isalpha() for c in re.sub(r"EUR|GBP|USD|CHF|kr", "", text))
            return self._number(match.group()) if match and alone else None
        if any(word in _plain(str(schema.get("description", ""))) for word in ("number", "identification")):
            match = _CODE.match(text)
            return match.group().strip() if match else None
        return text

    def _number(self, text: str) -> float | int | None:
        body = re.sub(r"[ '\u00a0\u202f]", "", text)
        body = body.replace(".", "").replace(",", ".") if self.comma else body.replace(",", "")
        try:
            value = float(body)
        except ValueError:
            return None
        return int(value) if value.is_integer() and "." not in body else value

    def _choice(self, options: list[Any]) -> Any:
        words = {
            "credit note": ("credit note", "gutschrift", "avoir", "creditnota"),
            "delivery note": ("delivery note", "lieferschein", "bon de livraison"),
            "invoice": ("invoice", "rechnung", "facture", "factuur"),
        }
        low = self.text.casefold()
        for option, signs in words.items():
            if option in options and any(re.search(rf"^\W*{sign}\b|\s{{3,}}{sign}\b|\n{sign}\b", low) for sign in signs):
                return option
        for option in options:
            if str(option).casefold() in low:
                return option
        return None

    def _currency(self) -> str | None:
        match = _ISO.search(self.text)
        if match:
            return match.group(1)
        return next((code for sign, code in _SIGN.items() if sign in self.text), None)

    def _letterhead(self) -> str | None:
        """The first line of words is taken for the sender, unless a foot line with dots repeats another."""
        foot = [line.split("·")[0].strip() for line in self.lines if "·" in line]
        tops = [_WIDE.split(line.strip())[0] for line in self.lines[:8]]
        for top in tops:
            if any(end and top.startswith(end) for end in foot):
                return top
        return tops[0] if tops else None

    def _rows(self, item: dict[str, Any]) -> list[Any]:
        fields = item.get("properties") or {}
        best: tuple[int, int, dict[str, int]] | None = None
        for at, line in enumerate(self.lines):
            columns = self._columns(_WIDE.split(line.strip()), fields)
            if len(columns) >= 3 and (best is None or len(columns) > best[0]):
                best = (len(columns), at, columns)
        if best is None:
            return []
        heads = _WIDE.split(self.lines[best[1]].strip())
        rows: list[Any] = []
        misses = 0
        for line in self.lines[best[1] + 1 :]:
            cells = _WIDE.split(line.strip())
            if any(_plain(cell).startswith(_SUMS) for cell in cells):
                continue
            if len(cells) == len(heads) and cells != heads:
                row = {key: self._typed_cell(cells[column], fields[key]) for key, column in best[2].items()}
                if any(isinstance(value, int | float) for value in row.values()):
                    rows.append({key: value for key, value in row.items() if value is not None})
                    misses = 0
                    continue
            if len(cells) == 1 and "·" not in line and rows and misses == 0:
                text = next((key for key in best[2] if key == "description"), None)
                if text and not line.rstrip().endswith("."):
                    rows[-1][text] = f"{rows[-1].get(text, '')} {line.strip()}".strip()
                continue
            misses += 1
        return rows

    def _columns(self, cells: list[str], fields: dict[str, Any]) -> dict[str, int]:
        found: dict[str, int] = {}
        for key, schema in fields.items():
            labels = self._labels(self._resolved(schema), key)
            for number, cell in enumerate(cells):
                if number not in found.values() and _plain(cell) in labels:
                    found[key] = number
                    break
        return found

    def _typed_cell(self, cell: str, schema: dict[str, Any]) -> Any:
        if _kind(schema) in ("number", "integer"):
            match = _AMOUNT.search(cell)
            return self._number(match.group()) if match else None
        return cell.strip() or None


def _kind(schema: dict[str, Any]) -> Any:
    """The type of a leaf, without the null that most may be."""
    given = schema.get("type")
    return next((each for each in given if each != "null"), None) if isinstance(given, list) else given


def _plain(text: str) -> str:
    return re.sub(r"[\s.:#]+", " ", text.replace("#", " ")).strip().casefold()


def _iso(text: str) -> str | None:
    if re.fullmatch(r"\d{4}-\d{2}-\d{2}", text):
        return text
    numbers = re.findall(r"\d+", text)
    word = re.search(r"[^\W\d]{3,}", text)
    if word:
        start = word.group().casefold()[:3]
        month = _MONTHS.index(start) + 1 if start in _MONTHS else _OTHER.get(start, 0)
        day, year = numbers[0], numbers[1]
        if word.group().casefold().startswith("juil"):
            month = 7
        if word.group().casefold().startswith("mars") or word.group().casefold().startswith("marz"):
            month = 3
    else:
        day, month, year = numbers[0], int(numbers[1]), numbers[2]
    return f"{year}-{month:02}-{int(day):02}" if 1 <= month <= 12 and 1 <= int(day) <= 31 else None
