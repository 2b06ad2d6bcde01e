"""The fixed set: what suppliers sent to the Ellerby Botanic Garden, and what should become of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from metrikon.demo import delivery_note
from metrikon.demo.ageing import photographed, scanned
from metrikon.demo.bills import Bill, Row, Sender, right_record
from metrikon.demo.invent import drawn
from metrikon.demo.layout import Layout


@dataclass(frozen=True)
class Sent:
    """One file that came in: its bytes, the right record, and what should become of it.

    `outcome`: "done" (written unattended), "review" (a person must look), "stopped" or "refused".
    """

    name: str
    data: bytes
    right: dict[str, Any]
    outcome: str
    because: str = ""


def _rows(*given: tuple[str, str, str, str, str]) -> tuple[Row, ...]:
    return tuple(Row(part, text, Decimal(quantity), unit, Decimal(price)) for part, text, quantity, unit, price in given)


FERNHILL = Sender(
    "Fernhill Nurseries Ltd", "Holloway Road 12", "WX3 8LD Wexcombe", "GB218440917", "www.fernhill-nurseries.example", "GB41 2184 4091 7302 55"
)
MOORGATE = Sender(
    "Moorgate Seed Company Ltd", "Quay Street 3", "HR1 4BT Harrowdene", "GB730115562", "www.moorgate-seed.example", "GB09 7301 1556 2218 40"
)
LARKMEAD = Sender(
    "Larkmead Horticulture LLP", "Station Yard", "LM9 2ZZ Little Marsh", "GB402277318", "www.larkmead-horticulture.example", "GB66 4022 7731 8001 12"
)
SILVERBECK = Sender(
    "Silverbeck Plants & Sons Ltd", "Nursery Lane 88", "SB4 6QP Silverbeck", "GB551902843", "www.silverbeck-plants.example", "GB17 5519 0284 3409 71"
)
OAKHANGER = Sender(
    "Oakhanger Garden Supplies Ltd", "The Old Maltings", "OK7 1AA Oakhanger", "GB663108227", "www.oakhanger-garden.example", "GB52 6631 0822 7115 04"
)
HOLLINS = Sender(
    "Hollins Bulb Growers Cooperative", "Dyke End 40", "HL2 9RW Hollinsea", "GB119047736", "www.hollins-bulb.example", "GB83 1190 4773 6640 21"
)
THORNBY = Sender("Thornby Plants Ltd", "Mill Rise 5", "TH5 3EE Thornby", "GB884512039", "www.thornby-plants.example", "GB30 8845 1203 9770 18")
TANNHOF = Sender(
    "Tannhof Baumschulen GmbH", "Am Wald 17", "54331 Oberwald", "DE284719305", "www.tannhof-baumschulen.example", "DE44 2847 1930 5518 02"
)
BRACKENDALE = Sender(
    "Brackendale Nurseries Ltd", "Cross Keys 9", "BR8 8KF Brackendale", "GB337290184", "www.brackendale-nurseries.example", "GB75 3372 9018 4063 30"
)
KESTREL = Sender("Kestrel Seed Company", "Hangar Way 2", "KS6 5NN Kestrel", "GB905518263", "www.kestrel-seed.example", "GB28 9055 1826 3391 77")
MARLOW = Sender("Marlow Garden Supplies Ltd", "Wharf 11", "MW3 3DT Marlowe", "GB470026195", "www.marlow-garden.example", "GB91 4700 2619 5284 63")
CLAIRBOIS = Sender(
    "Pépinières Clairbois SARL",
    "Rue des Lilas 24",
    "49320 Saint-Avril",
    "FR76480119365",
    "www.clairbois-pepinieres.example",
    "FR12 7648 0119 3650 47",
)
ZONNEHOF = Sender(
    "Kwekerij Zonnehof B.V.", "Dijkweg 31", "2171 KB Bovendijk", "NL850447213B01", "www.zonnehof-kwekerij.example", "NL57 8504 4721 3390 01"
)
PETERSBACH = Sender(
    "Petersbach Samenhandel e.K.", "Brunnengasse 6", "79442 Grünfelde", "DE190663824", "www.petersbach-samenhandel.example", "DE08 1906 6382 4471 90"
)
ASHBOURNE = Sender("Ashbourne Tools Ltd", "Forge Lane 1", "AS1 1AS Ashbourne", "GB256914470", "www.ashbourne-tools.example", "GB49 2569 1447 0938 16")

SMALL = _rows(
    ("F-1021", "Acer palmatum 'Osakazuki' 10 l", "2", "pcs", "48.50"),
    ("F-1188", "Helleborus orientalis mix P9", "24", "pcs", "3.95"),
    ("F-2040", "Peat-free compost 40 l", "30", "bag", "7.20"),
)
SEEDS = _rows(
    ("M3310", "Digitalis purpurea seed 5 g", "4", "pkt", "6.40"),
    ("M3342", "Papaver rhoeas seed 25 g", "6", "pkt", "4.15"),
    ("M3377", "Wildflower meadow mix 1 kg", "3", "bag", "62.00"),
    ("M3390", "Nigella damascena seed 10 g", "5", "pkt", "5.25"),
)
GOODS = [
    "Lavandula angustifolia 'Hidcote' P9",
    "Galanthus nivalis in the green",
    "Iris sibirica 2 l",
    "Primula veris P9",
    "Geranium 'Rozanne' 2 l",
    "Quercus robur 60-80 cm",
    "Carpinus betulus 40-60 cm",
    "Ilex aquifolium 3 l",
    "Viburnum opulus 3 l, grown on own roots without peat",
    "Dryopteris filix-mas 1 l",
    "Salvia nemorosa P9",
]


def _long_rows() -> tuple[Row, ...]:
    """88 lines: enough for three pages."""
    rows = []
    for number in range(88):
        price = Decimal(145 + 37 * (number * 7 % 23)) / 100
        rows.append(Row(f"SB{4000 + 13 * number}", GOODS[number * 5 % len(GOODS)], Decimal(3 + number * 11 % 40), "pcs", price))
    return tuple(rows)


def _sent(name: str, bill: Bill, look: Layout, outcome: str = "done", because: str = "", change: Callable[[bytes], bytes] | None = None) -> Sent:
    data = drawn(bill, look)
    return Sent(name, change(data) if change else data, right_record(bill, look.columns), outcome, because)


def sent() -> Iterator[Sent]:
    """Every file of the fixed set, in the order of its name."""
    yield _sent(
        "01-fernhill-nurseries.pdf",
        Bill(FERNHILL, "FN-20417", date(2026, 3, 4), SMALL, "GBP", Decimal(20), due=date(2026, 4, 3), order="EBG-311", customer="10442"),
        Layout("canvas", "en", "en", "words", "before", "left", "side"),
    )
    yield _sent(
        "02-moorgate-seed.pdf",
        Bill(MOORGATE, "2026/0871", date(2026, 3, 9), SEEDS, "GBP", Decimal(20), due=date(2026, 3, 23), order="EBG-318"),
        Layout(
            "typst",
            "en",
            "en",
            "slashes",
            "code",
            "right",
            "grid",
            ("pos", "part", "text", "quantity", "unit", "price", "amount"),
            "boxes",
            picks={"number": 1, "due": 1, "order": 1},
        ),
    )
    yield _sent(
        "03-larkmead-horticulture.pdf",
        Bill(LARKMEAD, "LH9920", date(2026, 3, 11), SMALL[:2], "GBP", Decimal(20), delivered=date(2026, 3, 6), customer="C-881"),
        Layout(
            "canvas",
            "en",
            "en",
            "iso",
            "before",
            "centre",
            "grid",
            ("text", "part", "quantity", "price", "amount"),
            "zebra",
            "serif",
            picks={"total": 1, "net": 1, "quantity": 1},
        ),
    )
    yield _sent(
        "04-silverbeck-plants-three-pages.pdf",
        Bill(SILVERBECK, "SBP-77120", date(2026, 3, 16), _long_rows(), "GBP", Decimal(20), due=date(2026, 4, 15), order="EBG-322"),
        Layout("canvas", "en", "en", "words", "before", "left", "side", carried=True, picks={"total": 4, "date": 1}),
    )
    yield _sent(
        "05-oakhanger-garden-scan.pdf",
        Bill(
            OAKHANGER,
            "OGS-5518",
            date(2026, 3, 18),
            _rows(
                ("40-118", "Slate labels, engraved", "50", "pcs", "2.35"),
                ("40-200", "Bamboo canes 120 cm", "200", "pcs", "0.48"),
                ("41-007", "Horticultural grit 25 kg", "12", "bag", "5.90"),
            ),
            "GBP",
            Decimal(20),
            due=date(2026, 4, 17),
        ),
        Layout("canvas", "en", "en", "words", "code", "left", "side", ruled="boxes", picks={"tax": 1}),
        change=scanned,
    )
    yield _sent(
        "06-hollins-bulb-photo.jpg",
        Bill(
            HOLLINS,
            "HB-3071",
            date(2026, 3, 20),
            _rows(("B12", "Galanthus nivalis, 100 bulbs", "3", "lot", "21.00"), ("B40", "Narcissus poeticus, 50 bulbs", "8", "lot", "14.75")),
            "GBP",
            Decimal(20),
            order="EBG-327",
        ),
        Layout("canvas", "en", "en", "words", "before", "left", "lines", ruled="lines"),
        change=photographed,
    )
    yield _sent(
        "07-thornby-credit-note.pdf",
        Bill(
            THORNBY,
            "CN-0412",
            date(2026, 3, 23),
            _rows(("T-88", "Camellia japonica 'Alba Plena' 3 l, frost damage", "4", "pcs", "18.90")),
            "GBP",
            Decimal(20),
            kind="credit note",
        ),
        Layout("typst", "en", "en", "month first", "before", "left", "side", picks={"number": 4, "total": 1}),
    )
    yield _sent(
        "08-tannhof-baumschulen.pdf",
        Bill(
            TANNHOF,
            "RE-2026-1184",
            date(2026, 3, 25),
            _rows(
                ("1204", "Quercus robur Hochstamm 12-14", "6", "Stk", "184.50"),
                ("1377", "Carpinus betulus Heckenpflanze 80-100", "120", "Stk", "4.85"),
                ("1502", "Pflanzpfahl Kastanie 250 cm", "18", "Stk", "9.20"),
            ),
            "EUR",
            Decimal(19),
            due=date(2026, 4, 24),
            order="EBG-330",
            customer="70114",
        ),
        Layout("typst", "de", "de", "dots", "after", "right", "side", ("pos", "part", "text", "quantity", "unit", "price", "amount"), "lines"),
    )
    yield _sent(
        "09-brackendale-wrong-sum.pdf",
        Bill(BRACKENDALE, "BN 4471".replace(" ", "-"), date(2026, 3, 27), SMALL, "GBP", Decimal(20), due=date(2026, 4, 26), off_by=Decimal("10.00")),
        Layout("canvas", "en", "en", "words", "before", "right", "lines", ruled="none", picks={"net": 2, "total": 2}),
        "review",
        "net and tax do not add up to the total",
    )
    kestrel = Bill(KESTREL, "K-60233", date(2026, 3, 30), SEEDS[:3], "GBP", Decimal(20), due=date(2026, 4, 29), order="EBG-334")
    yield _sent("10-kestrel-seed.pdf", kestrel, Layout("canvas", "en", "en", "words", "code", "left", "side", ruled="zebra"))
    yield _sent(
        "11-kestrel-seed-sent-again.pdf",
        kestrel,
        Layout("typst", "en", "en", "words", "code", "left", "side", ruled="zebra", font="serif"),
        "review",
        "the same vendor and number were seen before",
    )
    note = Bill(MARLOW, "D-1190", date(2026, 3, 31), SMALL, order="EBG-336")
    yield Sent("12-marlow-delivery-note.pdf", delivery_note.draw(note), {"document_type": "delivery note"}, "stopped", "it is a delivery note")
    yield Sent("13-broken-file.pdf", drawn(note, Layout())[:900], {}, "refused", "the file is cut off")
    yield _sent(
        "14-pepinieres-clairbois.pdf",
        Bill(
            CLAIRBOIS,
            "FA-26-0392",
            date(2026, 4, 2),
            _rows(
                ("RO-11", "Rosier buisson 'Souvenir du Jardin'", "15", "pce", "12.40"),
                ("HY-07", "Hydrangea paniculata 3 l", "10", "pce", "9.95"),
                ("TR-90", "Terreau sans tourbe 70 l", "24", "sac", "48.20"),
            ),
            "EUR",
            Decimal(20),
            due=date(2026, 5, 2),
            order="EBG-340",
            customer="C2210",
        ),
        Layout("typst", "fr", "fr", "slashes", "after", "centre", "grid", ("part", "text", "quantity", "price", "amount"), "boxes", "serif"),
    )
    yield _sent(
        "15-kwekerij-zonnehof.pdf",
        Bill(
            ZONNEHOF,
            "26700118",
            date(2026, 4, 7),
            _rows(("4410", "Tulipa sylvestris, 100 stuks", "5", "st", "31.50"), ("4425", "Fritillaria meleagris, 100 stuks", "4", "st", "27.80")),
            "EUR",
            Decimal(9),
            due=date(2026, 5, 7),
        ),
        Layout("canvas", "nl", "de", "dots", "before", "left", "lines", ("text", "part", "quantity", "price", "amount"), "lines"),
    )
    yield _sent(
        "16-petersbach-samenhandel.pdf",
        Bill(
            PETERSBACH,
            "4471-26",
            date(2026, 4, 9),
            _rows(
                ("S 201".replace(" ", "-"), "Wiesenmischung artenreich 5 kg", "2", "Sack", "214.00"),
                ("S-230", "Klatschmohn Saatgut 100 g", "3", "Btl", "18.60"),
            ),
            "EUR",
            Decimal(7),
            delivered=date(2026, 4, 8),
            customer="K-3307",
        ),
        Layout(
            "canvas",
            "de",
            "de",
            "words",
            "after",
            "centre",
            "side",
            ("pos", "text", "part", "quantity", "price", "amount"),
            "zebra",
            "serif",
            picks={"number": 2, "total": 1, "date": 1},
        ),
    )
    yield _sent(
        "17-ashbourne-tools.pdf",
        Bill(
            ASHBOURNE,
            "90114",
            date(2026, 4, 13),
            _rows(("AT-1", "Border spade, ash handle", "3", "pcs", "54.00"), ("AT-9", "Secateurs, bypass, left-handed", "5", "pcs", "1038.50")),
            "USD",
            Decimal(5),
            due=date(2026, 5, 13),
            order="EBG-345",
        ),
        Layout(
            "typst",
            "en",
            "en",
            "month first",
            "before",
            "left",
            "lines",
            ("text", "quantity", "price", "amount"),
            "none",
            "mono",
            title="inline",
            picks={"total": 3, "number": 0},
        ),
    )
