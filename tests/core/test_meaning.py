"""What a field means is found from its name, description and form, and set against the words that stand by a value."""

from __future__ import annotations

from typing import Any

import pytest

from metrikon.core.records.lexicon import concepts_in
from metrikon.core.records.meaning import concept_of, label_fit
from metrikon.core.records.types import Field, record_type

DAY, NUMBER, TEXT = {"type": "string", "format": "date"}, {"type": "number"}, {"type": "string"}


def field(name: str, schema: dict[str, Any], about: str = "") -> Field:
    return record_type({"type": "object", "properties": {name: {**schema, "description": about} if about else schema}}).header[0]


MEANT = [
    ("invoice_no", TEXT, "", "number"),
    ("rechnungsnummer", TEXT, "", "number"),
    ("numero_de_factura", TEXT, "", "number"),
    ("x1", DAY, "Fecha de vencimiento", "due date"),
    ("zahlbar_bis", DAY, "", "due date"),
    ("echeance", DAY, "", "due date"),
    ("betalen_voor", DAY, "Vervaldatum", "due date"),
    ("net_total", NUMBER, "", "net"),
    ("summe", NUMBER, "Nettobetrag ohne Umsatzsteuer", "net"),
    ("total_ht", NUMBER, "", "net"),
    ("imponibile", NUMBER, "", "net"),
    ("vat_sum", NUMBER, "", "tax"),
    ("moms", NUMBER, "", "tax"),
    ("endbetrag", NUMBER, "", "gross"),
    ("total_ttc", NUMBER, "", "gross"),
    ("do_zaplaty", NUMBER, "", "gross"),
    ("menge", NUMBER, "", "quantity"),
    ("f7", NUMBER, "Unit price", "unit price"),
    ("einzelpreis", NUMBER, "", "unit price"),
]


@pytest.mark.parametrize(("name", "schema", "about", "wanted"), MEANT, ids=[f"{each[0]} {each[2]}".strip() for each in MEANT])
def test_a_field_is_understood_in_ten_languages(name: str, schema: dict[str, Any], about: str, wanted: str) -> None:
    assert concept_of(field(name, schema, about)) == wanted


def test_a_name_that_says_nothing_means_nothing() -> None:
    assert concept_of(field("qx", TEXT)) == ""
    assert concept_of(field("zzz", NUMBER, "Flurbel der Wumpe")) == ""


@pytest.mark.parametrize(
    ("name", "schema", "about", "label", "other"),
    [
        ("due", DAY, "Last day for payment", "Please pay by", "Date of issue"),
        ("net", NUMBER, "Total before VAT", "Subtotal excl. VAT", "VAT 20%"),
        ("gross", NUMBER, "Total with VAT", "Invoice total", "Deposit"),
        ("tva_10", NUMBER, "TVA à 10 %", "TVA 10 %", "TVA 20 %"),
        ("ust_20", NUMBER, "Umsatzsteuer 20 %", "USt 20%", "USt 10%"),
        ("heizkosten", NUMBER, "Heizkosten des Gewächshauses", "Heizkosten Gewächshaus", "Wasser"),
        ("kilometres_driven", NUMBER, "", "Kilometres driven", "Price"),
    ],
)
def test_the_label_of_a_field_fits_better_than_another(name: str, schema: dict[str, Any], about: str, label: str, other: str) -> None:
    own = field(name, schema, about)
    assert label_fit(own, label) > label_fit(own, other)
    assert label_fit(own, label) >= 0.3


@pytest.mark.parametrize("label", ["", "the of and", "a b c d e f g h i j k l m n o p"])
def test_what_is_no_label_fits_nothing(label: str) -> None:
    assert label_fit(field("gross", NUMBER, "Total with VAT"), label) == 0


@pytest.mark.parametrize("text", ["RECHNUNGS-NR.", "Rechnungs Nr", "rechnungs nr:", "Rechnungsnr"])
def test_case_and_marks_change_nothing_of_a_concept(text: str) -> None:
    assert "number" in {concept for concept, *_ in _concepts(text)}


def _concepts(text: str) -> list[tuple[Any, ...]]:
    return [each if isinstance(each, tuple) else (each,) for each in concepts_in(text)]
