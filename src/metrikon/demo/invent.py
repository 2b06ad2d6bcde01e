"""Bills nobody has seen: any number of them from a seed, each with a look of its own."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from metrikon.demo.bills import Bill, Row, Sender, right_record
from metrikon.demo.layout import Layout
from metrikon.demo.wording import LABELS

_STEMS = [
    "Fernhill",
    "Moorgate",
    "Larkmead",
    "Ashbourne",
    "Birkenhof",
    "Tannhof",
    "Lindenau",
    "Rosendal",
    "Vallombre",
    "Clairbois",
    "Zonnehof",
    "Waterkant",
    "Thornby",
    "Oakhanger",
    "Silverbeck",
    "Hollins",
    "Marlow",
    "Kestrel",
    "Brackendale",
    "Petersbach",
]
_TRADES = {
    "en": "Nurseries;Seed Company;Garden Supplies;Plants;Horticulture;Bulb Growers",
    "de": "Gartenbau;Baumschulen;Staudengärtnerei;Samenhandel;Pflanzenhof",
    "fr": "Pépinières;Semences;Jardins;Horticulture",
    "nl": "Kwekerij;Zaadhandel;Tuinplanten;Bloembollen",
}
_FORMS = {"en": "Ltd;& Sons Ltd;LLP;;Cooperative", "de": "GmbH;KG;e.K.;OHG", "fr": "SARL;SAS;SCEA", "nl": "B.V.;V.O.F.;"}
_TOWNS = {"en": "Harrowdene;Wexcombe;Little Marsh", "de": "Grünfelde;Oberwald", "fr": "Saint-Avril;Monbreuil", "nl": "Bovendijk;Lindewaard"}
_GOODS = [
    "Acer palmatum 'Osakazuki' 10 l",
    "Helleborus orientalis mix",
    "Quercus robur 150-200 cm",
    "Potting soil peat-free 40 l",
    "Lavandula angustifolia 'Hidcote' P9",
    "Galanthus nivalis, 100 bulbs",
    "Bamboo canes 120 cm",
    "Slate plant labels, engraved",
    "Digitalis purpurea seed 5 g",
    "Rosa rugosa bare root",
    "Terracotta pot 30 cm, frost-proof",
    "Camellia japonica 'Alba Plena' 3 l pot grown on own roots in peat-free compost",
    "Fagus sylvatica hedging plants 60-80 cm, bundled by twenty-five",
    "Sphagnum moss, dried, 5 kg",
    "Horticultural grit 25 kg",
    "Iris sibirica",
    "Fern collection, six kinds",
]
_UNITS = {"en": ("pcs", "bag", "tray"), "de": ("Stk", "Sack", "Bund"), "fr": ("pce", "sac", "lot"), "nl": ("st", "zak", "tray")}


@dataclass(frozen=True)
class Invented:
    """A drawn bill with the record that a careful person reads from it."""

    name: str
    bill: Bill
    look: Layout
    data: bytes
    right: dict[str, Any]


def invent(seed: int, count: int) -> Iterator[Invented]:
    """`count` bills; the same seed gives the same ones."""
    for number in range(count):
        dice = random.Random(f"{seed}/{number}")
        look, bill = _looked(dice), None
        bill = _billed(dice, look)
        yield Invented(f"invented-{seed}-{number:03}", bill, look, drawn(bill, look), right_record(bill, look.columns))


def drawn(bill: Bill, look: Layout) -> bytes:
    """The bill drawn by the producer its look names."""
    if look.producer == "canvas":
        from metrikon.demo.on_canvas import draw
    else:
        from metrikon.demo.in_typst import draw
    return draw(bill, look)


def _looked(dice: random.Random) -> Layout:
    language = dice.choice(("en", "en", "de", "fr", "nl"))
    dates = {
        "en": ("iso", "slashes", "words", "month first"),
        "de": ("dots", "words", "iso"),
        "fr": ("slashes", "words"),
        "nl": ("dots", "words", "iso"),
    }[language]
    columns = ["text", "quantity", "price", "amount"]
    if dice.random() < 0.7:
        columns.insert(dice.choice((0, 1)), "part")
    if dice.random() < 0.4:
        columns.insert(0, "pos")
    if dice.random() < 0.4:
        columns.insert(columns.index("quantity") + 1, "unit")
    return Layout(
        producer=dice.choice(("canvas", "typst")),
        language=language,
        numbers={"en": "en", "de": "de", "fr": "fr", "nl": "de"}[language],
        dates=dice.choice(dates),
        money=dice.choice(("before", "after", "code") if language != "en" else ("before", "code")),
        head=dice.choice(("left", "right", "centre")),
        meta=dice.choice(("side", "lines", "grid")),
        columns=tuple(columns),
        ruled=dice.choice(("lines", "boxes", "zebra", "none")),
        font=dice.choice(("sans", "sans", "serif", "mono")),
        totals=dice.choice(("right", "right", "table")),
        title=dice.choice(("big", "big", "big", "inline")),
        carried=dice.random() < 0.5,
        picks={name: dice.randrange(12) for name in LABELS["en"]},
    )


def _billed(dice: random.Random, look: Layout) -> Bill:
    language = look.language
    day = date(2026, 1, 5) + timedelta(days=dice.randrange(300))
    rows = tuple(_row(dice, language) for _ in range(dice.choice((1, 2, 3, 4, 6, 9, 14, 40))))
    number = dice.choice(("{y}-{n}", "R{n}", "INV-{n}", "{n}", "FA{y}{n}", "{n}/{s}")).format(
        y=day.year, n=dice.randrange(1000, 99999), s=dice.randrange(10, 99)
    )
    return Bill(
        sender=_sender(dice, language),
        number=number,
        date=day,
        rows=rows,
        currency=dice.choice(("GBP", "USD")) if language == "en" else "EUR",
        rate=Decimal(dice.choice({"en": (20, 5), "de": (19, 7), "fr": (20, 10), "nl": (21, 9)}[language])),
        kind="credit note" if dice.random() < 0.08 else "invoice",
        due=day + timedelta(days=dice.choice((14, 21, 30))) if dice.random() < 0.75 else None,
        order=f"EBG-{dice.randrange(200, 999)}" if dice.random() < 0.6 else None,
        customer=str(dice.randrange(10000, 99999)) if dice.random() < 0.5 else None,
        delivered=day - timedelta(days=dice.randrange(1, 9)) if dice.random() < 0.4 else None,
    )


def _sender(dice: random.Random, language: str) -> Sender:
    stem, trade = dice.choice(_STEMS), dice.choice(_TRADES[language].split(";"))
    form = dice.choice(_FORMS[language].split(";"))
    name = " ".join(part for part in (stem, trade, form) if part)
    country = {"en": "GB", "de": "DE", "fr": "FR", "nl": "NL"}[language]
    digits = "".join(dice.choice("0123456789") for _ in range(9))
    tail = "B01" if country == "NL" else ""
    town = dice.choice(_TOWNS[language].split(";"))
    return Sender(
        name=name,
        street=f"{dice.choice(('Mill Lane', 'Am Wald', 'Rue des Lilas', 'Dijkweg'))} {dice.randrange(1, 90)}",
        place=f"{dice.randrange(1000, 99999)} {town}",
        tax_id=f"{country}{(country == 'FR' and '7') or ''}{digits}{tail}",
        site=f"www.{stem.lower()}-{trade.split()[0].lower().encode('ascii', 'ignore').decode()}.example",
        iban=f"{country}{dice.randrange(10, 99)} {digits[:4]} {digits[4:8]} {dice.randrange(1000, 9999)} {dice.randrange(10, 99)}",
    )


def _row(dice: random.Random, language: str) -> Row:
    quantity = Decimal(dice.choice((1, 2, 3, 5, 10, 12, 25, 120)))
    if dice.random() < 0.1:
        quantity += Decimal("0.5")
    price = Decimal(dice.randrange(45, 25000)) / 100
    part = dice.choice(("{a}{n}", "{n}", "{a}-{n}")).format(a=dice.choice("ABCKLM"), n=dice.randrange(1000, 99999))
    return Row(part, dice.choice(_GOODS), quantity, dice.choice(_UNITS[language]), price)
