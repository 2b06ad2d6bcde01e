"""Papers with record types that say nothing of ours: no labels, other names, other languages, no ruled tables.

Invoices, receipts, applications, calls and web pages of the garden's world, any number of them from a seed, each with its record
type and its right record. What is learned on documents of other hands is kept by them.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from metrikon.demo.invent import invent

Schema = dict[str, Any]
_MONTHS = {
    "en": ["January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"],
    "de": ["Januar", "Februar", "März", "April", "Mai", "Juni", "Juli", "August", "September", "Oktober", "November", "Dezember"],
    "fr": ["janvier", "février", "mars", "avril", "mai", "juin", "juillet", "août", "septembre", "octobre", "novembre", "décembre"],
}
_PEOPLE = ("Marguerite Osei", "Barnaby Wells", "Linnea Brook", "Quillon Hart", "Ottilie Crane", "Ines Falk", "Tobias Reuter", "Solene Marchand")
_SHOPS = ("Harrowdene Hardware", "The Potting Shed", "Oakhanger Tea Room", "Waterkant Markt", "Quincaillerie Saint-Avril")
_THINGS = (
    ("Twine", "2.40"),
    ("Plant labels", "3.15"),
    ("Seed tray", "4.80"),
    ("Gloves", "7.95"),
    ("Secateurs", "18.50"),
    ("Compost 20 l", "6.25"),
    ("Watering can", "14.90"),
)


@dataclass(frozen=True)
class Paper:
    """One document with its record type and its right record. `kind`: invoice, receipt, application, call or page."""

    name: str
    kind: str
    data: bytes
    schema: Schema
    right: dict[str, Any]


def strangers(seed: int, count: int, kind: str = "") -> Iterator[Paper]:
    """`count` papers of each kind, or of one; the same seed gives the same ones."""
    for name, made in KINDS.items():
        if kind in ("", name):
            yield from made(seed, count)


def _object(**properties: Schema) -> Schema:
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


def _text(about: str, nothing: bool = False, **more: Any) -> Schema:
    return {"type": ["string", "null"] if nothing else "string", "description": about, **more}


def _number(about: str, nothing: bool = False) -> Schema:
    return {"type": ["number", "null"] if nothing else "number", "description": about}


def _rows(about: str, **properties: Schema) -> Schema:
    return {"type": "array", "description": about, "items": _object(**properties)}


_CURRENCY = {"type": "string", "pattern": "^[A-Z]{3}$", "description": "Currency, ISO code"}
_INVOICE = {
    # our name: (name, description) in each language
    "vendor": {"en": ("from_firm", "Firm that invoices"), "de": ("aussteller", "Rechnungssteller"), "fr": ("emetteur", "Émetteur de la facture"), "nl": ("van_bedrijf", "Leverancier")},
    "number": {"en": ("bill_no", "Invoice number"), "de": ("beleg_nr", "Rechnungsnummer"), "fr": ("piece_no", "Numéro de facture"), "nl": ("stuk_nr", "Factuurnummer")},
    "date": {"en": ("issued_on", "Date of issue"), "de": ("vom", "Rechnungsdatum"), "fr": ("emise_le", "Date d'émission"), "nl": ("van_datum", "Factuurdatum")},
    "due_date": {"en": ("pay_before", "Due date"), "de": ("zahlbar_bis", "Fälligkeitsdatum"), "fr": ("a_payer_avant", "Date d'échéance"), "nl": ("betalen_voor", "Vervaldatum")},
    "net": {"en": ("before_tax", "Total before tax"), "de": ("netto_summe", "Summe netto"), "fr": ("somme_ht", "Total hors taxes"), "nl": ("zonder_btw", "Subtotaal exclusief btw")},
    "tax": {"en": ("tax_sum", "Tax"), "de": ("steuer", "Umsatzsteuerbetrag"), "fr": ("taxe", "Montant de la TVA"), "nl": ("btw_som", "Btw-bedrag")},
    "total": {"en": ("with_tax", "Total to pay"), "de": ("brutto_summe", "Gesamtbetrag"), "fr": ("somme_ttc", "Total toutes taxes comprises"), "nl": ("te_voldoen", "Totaalbedrag te betalen")},
    "lines": {"en": ("goods", "Goods"), "de": ("positionen", "Positionen"), "fr": ("articles", "Articles livrés"), "nl": ("regels", "Regels")},
    "description": {"en": ("thing", "What it is"), "de": ("ware", "Bezeichnung"), "fr": ("libelle", "Désignation"), "nl": ("wat", "Omschrijving")},
    "quantity": {"en": ("how_many", "Quantity"), "de": ("menge", "Menge"), "fr": ("nombre", "Quantité"), "nl": ("stuks", "Aantal")},
    "unit_price": {"en": ("each", "Price of one"), "de": ("je_stueck", "Einzelpreis"), "fr": ("prix_unite", "Prix unitaire"), "nl": ("stukprijs", "Prijs per stuk")},
    "amount": {"en": ("comes_to", "Amount of the line"), "de": ("zeile", "Betrag der Position"), "fr": ("montant_ligne", "Montant de la ligne"), "nl": ("regelbedrag", "Bedrag van de regel")},
}  # fmt: skip
_OF_ROWS = ("description", "quantity", "unit_price", "amount")


def _invoices(seed: int, count: int) -> Iterator[Paper]:
    for each in invent(seed, count):
        language = each.look.language
        named = {ours: names[language] for ours, names in _INVOICE.items()}
        properties: dict[str, Schema] = {}
        right: dict[str, Any] = {}
        for ours, (name, about) in named.items():
            if ours in _OF_ROWS or ours == "lines":
                continue
            schema = (
                _number(about)
                if ours in ("net", "tax", "total")
                else _text(about, ours == "due_date", **({"format": "date"} if "date" in ours else {}))
            )
            properties[name], right[name] = schema, each.right.get(ours)
        rows = {named[ours][0]: _text(named[ours][1]) if ours == "description" else _number(named[ours][1]) for ours in _OF_ROWS}
        properties[named["lines"][0]] = _rows(named["lines"][1], **rows)
        right[named["lines"][0]] = [{named[ours][0]: row.get(ours) for ours in _OF_ROWS} for row in each.right["lines"]]
        properties["currency_code"], right["currency_code"] = _CURRENCY, each.right["currency"]
        yield Paper(each.name, "invoice", each.data, _object(**properties), right)


def _receipts(seed: int, count: int) -> Iterator[Paper]:
    schema = _object(
        place=_text("Shop or restaurant"),
        slip_no=_text("Number of the receipt", True),
        bought_on=_text("Date of purchase", format="date"),
        bought_at=_text("Time of day, 24 h", True, pattern="^[0-2][0-9]:[0-5][0-9]$"),
        goods=_rows("What was bought", thing=_text("Name"), pieces=_number("How many"), sum=_number("Amount of the line")),
        to_pay=_number("Total"),
        tax_in_it=_number("VAT that is included", True),
        last_four=_text("Last four digits of the card", True, pattern="^[0-9]{4}$"),
        money=_CURRENCY,
    )
    for number in range(count):
        dice = random.Random(f"receipt {seed}/{number}")
        day = date(2026, 1, 5) + timedelta(days=dice.randrange(300))
        chosen = [(name, dice.randrange(1, 5), Decimal(price)) for name, price in dice.sample(_THINGS, dice.randrange(2, 6))]
        goods = [{"thing": name, "pieces": count, "sum": count * price} for name, count, price in chosen]
        total = sum((count * price for _, count, price in chosen), Decimal(0))
        tax = (total / 6).quantize(Decimal("0.01"))
        card, slip = (f"{dice.randrange(10000):04}" if dice.random() < 0.7 else None), str(dice.randrange(1000, 99999))
        clock = f"{dice.randrange(8, 20):02}:{dice.randrange(60):02}"
        shop = dice.choice(_SHOPS)
        lines = [shop.upper(), "12 Mill Lane, Harrowdene", "", f"Receipt no. {slip}", f"{day:%d/%m/%Y}   {clock}", ""]
        for name, count, price in chosen:
            lines += (
                [f"{count} x {name:<18}   {count * price:>7}"] if dice.random() < 0.6 else [f"{name}", f"  {count} x {price}   {count * price:>7}"]
            )
        lines += ["", f"{'TOTAL GBP':<22}   {total:>7}", f"{'VAT 20% incl.':<22}   {tax:>7}"]
        lines += [f"Card   **** **** **** {card}"] if card else ["Cash, thank you"]
        right = {
            "place": shop, "slip_no": slip, "bought_on": day.isoformat(), "bought_at": clock, "goods": goods, "to_pay": total, "tax_in_it": tax, "last_four": card, "money": "GBP",
        }  # fmt: skip
        yield Paper(f"receipt-{seed}-{number:03}", "receipt", "\n".join(lines).encode(), schema, right)


_HEADS = {
    "en": ("Work", "Education", "Skills", "Languages", "now", "Gardener;Head gardener;Propagator;Ground keeper", "English (native);German (B1)"),
    "de": (
        "Berufserfahrung",
        "Ausbildung",
        "Kenntnisse",
        "Sprachen",
        "heute",
        "Gärtner;Obergärtnerin;Baumpfleger;Gartenplanerin",
        "Deutsch (Muttersprache);Englisch (B2)",
    ),
    "fr": (
        "Expérience professionnelle",
        "Formation",
        "Compétences",
        "Langues",
        "présent",
        "Jardinier;Cheffe d'équipe;Pépiniériste;Élagueur",
        "Français (maternel);Anglais (B1)",
    ),
}
_FIRMS = ("Birkenhof Gartenbau GmbH", "Larkmead Estate", "Vallombre SARL", "Thornby Garden Trust", "Clairbois Pépinières SAS")
_SKILLS = ("Pruning", "Grafting", "Plant labels", "Glasshouse climate", "Tree surveys", "Seed cleaning", "Teaching")


def _applications(seed: int, count: int) -> Iterator[Paper]:
    month = r"^[0-9]{4}(-[0-9]{2})?$"
    schema = _object(
        who=_text("Full name of the applicant"),
        mail_of_applicant=_text("Mail address", True, format="email"),
        posts=_rows(
            "Employment, newest first",
            post=_text("Job title"),
            house=_text("Employer"),
            since=_text("Begin, YYYY-MM", True, pattern=month),
            until=_text("End, YYYY-MM; null while it goes on", True, pattern=month),
            ongoing={"type": "boolean", "description": "True for a present job"},
        ),
        can={"type": "array", "description": "Skills", "items": {"type": "string"}},
        speaks=_rows("Languages", tongue=_text("Language"), how_well=_text("Level as printed", True)),
        licence_class=_text("Driving licence class", True),
    )
    for number in range(count):
        dice = random.Random(f"application {seed}/{number}")
        language = dice.choice(("en", "de", "fr"))
        work, _, skills, tongues, now, titles, spoken = _HEADS[language]
        name = dice.choice(_PEOPLE)
        mail = f"{name.split()[0].lower()}@{dice.choice(('fern', 'moss', 'reed'))}mail.example"
        lines = [name, f"{mail}", "", work]
        posts, year = [], 2026
        for at, (title, firm) in enumerate(zip(dice.sample(titles.split(";"), 3), dice.sample(_FIRMS, 3), strict=True)):
            begin = (year - dice.randrange(2, 4), dice.randrange(1, 13))
            end = (year, dice.randrange(1, 12)) if at else None
            year = begin[0] - 1 + (begin[1] > 6)
            shown = f"{begin[1]:02}/{begin[0]} – " + (f"{end[1]:02}/{end[0]}" if end else now)
            lines += [f"{shown}   {title}, {firm}"]
            posts.append(
                {
                    "post": title,
                    "house": firm,
                    "since": f"{begin[0]}-{begin[1]:02}",
                    "until": f"{end[0]}-{end[1]:02}" if end else None,
                    "ongoing": end is None,
                }
            )
        can = dice.sample(_SKILLS, 4)
        lines += ["", skills, ", ".join(can), "", tongues, ", ".join(spoken.split(";"))]
        speaks = [{"tongue": each.split(" (")[0], "how_well": each.split(" (")[1].rstrip(")")} for each in spoken.split(";")]
        right = {"who": name, "mail_of_applicant": mail, "posts": posts, "can": can, "speaks": speaks, "licence_class": None}
        yield Paper(f"application-{seed}-{number:03}", "application", "\n".join(lines).encode(), schema, right)


_NUMBERS = {3: "three", 5: "five", 8: "eight", 12: "twelve", 20: "twenty", 24: "twenty-four"}
_DAYS = [
    "first",
    "second",
    "third",
    "fourth",
    "fifth",
    "sixth",
    "seventh",
    "eighth",
    "ninth",
    "tenth",
    "eleventh",
    "twelfth",
    "thirteenth",
    "fourteenth",
    "fifteenth",
    "sixteenth",
    "seventeenth",
    "eighteenth",
    "nineteenth",
    "twentieth",
]
_DIGITS = ["oh", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine"]
_CLOCKS = {"09:30": "half past nine", "10:15": "ten fifteen", "11:00": "eleven o'clock", "14:45": "two forty-five"}


def _calls(seed: int, count: int) -> Iterator[Paper]:
    schema = _object(
        caller_name=_text("Name of the caller"),
        visitors={"type": "integer", "description": "How many people come"},
        visit=_text("Day and time of the visit", True, pattern=r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$"),
        call_back=_text("Telephone number of the caller, E.164", True, pattern=r"^\+[1-9][0-9]{6,14}$"),
        wheelchairs={"type": ["boolean", "null"], "description": "Whether wheelchairs are needed; null if not asked"},
        guided_tour={"type": "boolean", "description": "True if a guided tour is booked"},
        fee_per_head=_number("Entrance fee for each person", True),
    )
    for number in range(count):
        dice = random.Random(f"call {seed}/{number}")
        called = date(2026, 3, 2) + timedelta(days=dice.randrange(0, 25))
        month = called.replace(day=1) + timedelta(days=32)
        day = date(month.year, month.month, dice.randrange(1, 21))
        name, people = dice.choice(_PEOPLE), dice.choice(list(_NUMBERS))
        clock, spoken = dice.choice(list(_CLOCKS.items()))
        digits = f"07700900{dice.randrange(100, 1000)}"
        fee = Decimal(dice.choice(("6.50", "8.50", "4.25")))
        chairs, tour = dice.random() < 0.5, dice.random() < 0.5
        pounds, pence = f"{fee}".split(".")
        said = [
            ("Garden", "Ellerby Botanic Garden, visitor line, good morning."),
            ("Caller", f"Good morning, my name is {name}. We would like to come with {_NUMBERS[people]} people."),
            ("Garden", "With pleasure. Which day do you have in mind?"),
            ("Caller", f"{day:%A} the {_DAYS[day.day - 1]} of {_MONTHS['en'][day.month - 1]}, at {spoken}."),
            ("Garden", f"That is free. The entrance fee is {_DIGITS[int(pounds)]} pounds {_TENS[pence]} for each person. Do you need wheelchairs?"),
            ("Caller", "Yes, we need two wheelchairs." if chairs else "No, no wheelchairs."),
            ("Garden", "And would you like a guided tour?"),
            ("Caller", "Yes please, book the guided tour." if tour else "No, no guided tour this time."),
            ("Garden", "May I have a number to call back?"),
            ("Caller", f"It is {', '.join(' '.join(_DIGITS[int(c)] for c in part) for part in (digits[:5], digits[5:8], digits[8:]))}."),
        ]
        cues = [
            f"00:{n // 6:02}:{n * 10 % 60:02}.000 --> 00:{n // 6:02}:{n * 10 % 60 + 8:02}.000\n<v {who}>{words}"
            for n, (who, words) in enumerate(said)
        ]
        data = f"WEBVTT\n\nNOTE recorded {called.isoformat()}\n\n" + "\n\n".join(cues) + "\n"
        right = {
            "caller_name": name, "visitors": people, "visit": f"{day.isoformat()}T{clock}", "call_back": f"+44{digits[1:]}", "wheelchairs": chairs, "guided_tour": tour, "fee_per_head": fee,
        }  # fmt: skip
        yield Paper(f"call-{seed}-{number:03}", "call", data.encode(), schema, right)


_TENS = {"50": "fifty", "25": "twenty-five"}


def _pages(seed: int, count: int) -> Iterator[Paper]:
    schema = _object(
        garden=_text("Name of the garden"),
        prices=_rows("Prices of tickets", ticket=_text("Kind of ticket"), costs=_number("Price"), hours=_text("Valid at", True)),
        phone_of_office=_text("Telephone of the office, E.164", True, pattern=r"^\+[1-9][0-9]{6,14}$"),
        mail_of_office=_text("Mail address of the office", True, format="email"),
        as_of=_text("Date of the last update", True, format="date"),
        fax_number=_text("Fax", True, pattern=r"^\+[1-9][0-9]{6,14}$"),
    )
    for number in range(count):
        dice = random.Random(f"page {seed}/{number}")
        garden = f"{dice.choice(('Ellerby', 'Harrowdene', 'Silverbeck'))} {dice.choice(('Botanic Garden', 'Fern House', 'Arboretum'))}"
        kinds = dice.sample(("Adult", "Child", "Family", "Season ticket", "Guided tour"), 4)
        prices = [{"ticket": kind, "costs": Decimal(dice.randrange(8, 120)) / 2, "hours": dice.choice(("all day", "from 2 pm"))} for kind in kinds]
        digits = f"01632 960{dice.randrange(100, 1000)}"
        mail = f"office@{garden.split()[0].lower()}.example"
        day = date(2026, 1, 3) + timedelta(days=dice.randrange(200))
        rows = "".join(f"<tr><td>{each['ticket']}</td><td>£{each['costs']:.2f}</td><td>{each['hours']}</td></tr>" for each in prices)
        data = (
            f"<!doctype html><html lang=en><head><title>Tickets | {garden}</title></head><body><header><a href='/'>{garden}</a><nav><a href='/a'>Visit</a> <a href='/b'>Plants</a></nav></header>"
            f"<main><h1>Tickets and prices</h1><p>Children under five come in free of charge. Dogs stay on the lead in every house of the garden, please.</p>"
            f"<table><tr><th>Ticket</th><th>Price</th><th>Valid</th></tr>{rows}</table></main>"
            f"<footer>Office: <a href='tel:{digits.replace(' ', '')}'>{digits}</a> · <a href='mailto:{mail}'>write to us</a><br>Last updated {day.day} {_MONTHS['en'][day.month - 1]} {day.year}</footer></body></html>"
        )
        right = {
            "garden": garden,
            "prices": prices,
            "phone_of_office": f"+44{digits.replace(' ', '')[1:]}",
            "mail_of_office": mail,
            "as_of": day.isoformat(),
            "fax_number": None,
        }
        yield Paper(f"page-{seed}-{number:03}", "page", data.encode(), schema, right)


KINDS: dict[str, Callable[[int, int], Iterator[Paper]]] = {
    "invoice": _invoices, "receipt": _receipts, "application": _applications, "call": _calls, "page": _pages,
}  # fmt: skip
