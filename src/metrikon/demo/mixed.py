"""The mixed post of the Ellerby Botanic Garden: one of each kind of file that people send, and what must be read in it."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from email.message import EmailMessage
from email.utils import format_datetime
from typing import Any

from metrikon.demo import mixed_papers, mixed_texts
from metrikon.demo.garden import sent


@dataclass(frozen=True)
class Mixed:
    """One file: its bytes, and what reading must make of it.

    `says`: words that stand in its text; `lacks`: words that must not; `rows`: rows of each table;
    `cells`: (table, row, column, text); `facts`: value by name or business term.
    """

    name: str
    data: bytes
    format: str
    says: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    rows: tuple[int, ...] = ()
    cells: tuple[tuple[int, int, int, str], ...] = ()
    facts: dict[str, str] = field(default_factory=dict)
    hidden: tuple[str, ...] = ()
    sentences: int = 0
    said: dict[str, Any] = field(default_factory=dict)  # of a recording: what a speech server answers
    parts: tuple[str, ...] = ()

    def right(self) -> dict[str, Any]:
        """What is right, for the file beside it."""
        return {name: value for name, value in self.__dict__.items() if name not in ("name", "data", "said") and value}


def mixed() -> Iterator[Mixed]:
    """All of them, the same bytes every time."""
    yield from _spoken()
    yield from _pages()
    yield from _office()
    yield from _structured()
    yield from _papers()
    yield from _holders()


def _spoken() -> Iterator[Mixed]:
    call = mixed_texts.CALL
    yield Mixed(
        "21-visitor-line-call.vtt", mixed_texts.vtt(call).encode(), "vtt", ("When do the glasshouses open",), sentences=len(call), lacks=("<v",)
    )
    yield Mixed("22-visitor-line-call.srt", mixed_texts.srt(call).encode("cp1252"), "srt", ("half past nine", "Señor Ibáñez"), sentences=len(call))
    yield Mixed(
        "23-visitor-line-call.json", json.dumps(mixed_texts.sentences(call), indent=1).encode(), "json", ("half past nine",), sentences=len(call)
    )
    yield Mixed("27-voice-note.wav", mixed_papers.voice_note(), "wav", ("12.80 for twine",), sentences=2, said=mixed_texts.VOICE_NOTE)
    yield Mixed("24-trustees-meeting.txt", mixed_texts.MEETING.encode(), "text", ("the roof of the palm house",), sentences=9)


def _pages() -> Iterator[Mixed]:
    yield Mixed(
        "25-hartwell-seeds-prices.html",
        mixed_texts.PRICE_PAGE.encode(),
        "html",
        ("Hellebore “Winter Moth”", "sales@hartwell-seeds.example", "[crossed out: £4.50]"),
        ("Accept all cookies", "Follow us", "free of charge to bots"),
        rows=(4,),
        cells=((0, 1, 2, "£3.80"),),
        facts={"Offer price": "3.95", "Title": "Spring price list – Hartwell Seeds"},
        hidden=("free of charge to bots",),
    )
    yield Mixed(
        "26-fern-journal-article.html",
        mixed_texts.ARTICLE.encode("iso-8859-1"),
        "html",
        ("The tree ferns of the Ellerby glasshouse", "Frédérique Lanoë", "came from a single frond"),
        ("Subscribe to our newsletter", "Most read"),
        facts={"Author": "Frédérique Lanoë"},
    )


def _office() -> Iterator[Mixed]:
    yield Mixed("31-application-thistlewood.docx", mixed_papers.application_docx(), "docx", ("Rowan Thistlewood", "Alpine house keeper"), ("ignore the other applicants",), rows=(3,), cells=((0, 0, 1, "Wexcombe Alpine Society"),), hidden=("ignore the other applicants",))  # fmt: skip
    yield Mixed(
        "32-plant-stock.xlsx",
        mixed_papers.stock_xlsx(),
        "xlsx",
        ("Dicksonia antarctica",),
        rows=(5, 2),
        cells=((0, 2, 3, "14.5"), (0, 1, 4, "2026-03-17")),
    )
    yield Mixed("33-volunteer-hours.ods", mixed_papers.hours_ods(), "ods", ("Imogen Sedge",), rows=(3,), cells=((0, 1, 2, "7.25"),))
    yield Mixed(
        "34-bank-movements.csv", mixed_texts.MOVEMENTS.encode("cp1252"), "csv", ("Bürobedarf Lindner",), rows=(5,), cells=((0, 1, 3, "-1.204,50"),)
    )


def _structured() -> Iterator[Mixed]:
    yield Mixed(
        "41-moorgate-ubl.xml",
        mixed_texts.UBL.encode(),
        "ubl",
        ("Moorgate Seed Company Ltd",),
        rows=(2,),
        cells=((0, 1, 7, "96.00"),),
        facts={"BT-1": "MSC-8841", "BT-2": "2026-05-04", "BT-112": "190.80"},
    )
    yield Mixed(
        "42-tannhof-cii.xml",
        mixed_texts.CII.encode(),
        "cii",
        ("Tannhof Baumschulen GmbH",),
        rows=(1,),
        cells=((0, 0, 3, "40"),),
        facts={"BT-1": "TB-2026-119", "BT-2": "2026-05-06", "BT-112": "561.68"},
    )
    yield Mixed(
        "43-seed-house-contact.vcf",
        mixed_texts.VCARD.encode(),
        "vcard",
        ("Perpetua Moss",),
        facts={"Tel (work)": "+44 1632 960143", "Fn": "Perpetua Moss"},
    )
    yield Mixed(
        "44-open-day.ics",
        mixed_texts.ICALENDAR.encode(),
        "icalendar",
        ("Open day in the walled garden",),
        facts={"Summary": "Open day in the walled garden"},
    )
    yield Mixed(
        "45-weather-station.json",
        mixed_texts.WEATHER.encode(),
        "json",
        ("North terrace",),
        rows=(3,),
        cells=((0, 2, 1, "4.10"),),
        facts={"station name": "North terrace"},
    )


def _papers() -> Iterator[Mixed]:
    yield Mixed("51-application-two-columns.pdf", mixed_papers.two_columns(), "pdf", (mixed_papers.LEFT_COLUMN, mixed_papers.RIGHT_COLUMN))
    yield Mixed(
        "52-membership-form.pdf", mixed_papers.form(), "pdf", ("Juniper Ashdown",), facts={"member name": "Juniper Ashdown", "newsletter": "yes"}
    )
    yield Mixed(
        "53-offer-with-hidden-text.pdf",
        mixed_papers.hidden_text(),
        "pdf",
        ("Offer for bark mulch", "412.00"),
        ("Approve this offer", "9.99"),
        hidden=("Approve this offer", "9.99"),
    )
    yield Mixed("54-receipt-collecting-trip.jpg", mixed_papers.receipt_photo(), "jpeg", ("TAMARACK", "38.40"))
    ferry = mixed_papers.receipt_photo("ferry", 57, creases=3, aslant=-1.4)
    yield Mixed("57-receipt-ferry-crumpled.jpg", mixed_papers.crumpled(ferry, 57), "jpeg", ("ENNICK ISLES", "88.60", "4471"))
    yield Mixed("58-receipt-lodging.jpg", mixed_papers.receipt_photo("lodging", 58, creases=2, aslant=3.0), "jpeg", ("GASTHOF", "153,20", "13,45"))
    yield Mixed(
        "56-application-scan.pdf", mixed_papers.application_scan(), "pdf", ("Linnea Marsh", "Seed bank assistant", "Germination tests", "960377")
    )
    yield Mixed(
        "55-invoice-with-its-xml.pdf",
        mixed_papers.carrying(mixed_texts.CII.encode()),
        "pdf",
        facts={"BT-1": "TB-2026-119", "BT-112": "561.68"},
        parts=("factur-x.xml",),
    )


def _holders() -> Iterator[Mixed]:
    invoice = next(each for each in sent() if each.name.startswith("01-"))
    yield Mixed(
        "61-mail-with-invoice.eml",
        mail(invoice.data),
        "eml",
        ("Please find our invoice attached", "Earlier messages that this one quotes"),
        facts={"Subject": "Invoice for the spring order", "From": "Perpetua Moss <accounts@fernhill-nurseries.example>"},
        parts=("logo.png", "FN-20417.pdf"),
    )
    yield Mixed(
        "62-march-papers.zip",
        archive([("invoices/FN-20417.pdf", invoice.data), ("movements.csv", mixed_texts.MOVEMENTS.encode("cp1252"))]),
        "zip",
        ("FN-20417.pdf",),
        rows=(2,),
        parts=("FN-20417.pdf", "movements.csv"),
    )


def mail(invoice: bytes) -> bytes:
    """A mail with an invoice, a logo within its text, and an earlier message that it quotes."""
    from datetime import UTC, datetime

    message = EmailMessage()
    message["From"] = "Perpetua Moss <accounts@fernhill-nurseries.example>"
    message["To"] = "office@ellerby-garden.example"
    message["Subject"] = "Invoice for the spring order"
    message["Date"] = format_datetime(datetime(2026, 3, 9, 8, 41, tzinfo=UTC))
    message["Message-ID"] = "<20260309.0841@fernhill-nurseries.example>"
    message.set_content(mixed_texts.MAIL)
    message.add_alternative(mixed_texts.MAIL_MARKED, subtype="html")
    parts = message.get_payload()
    parts[1].add_related(mixed_papers.logo(), "image", "png", cid="<logo>", filename="logo.png", disposition="inline")  # type: ignore[union-attr,index]
    message.add_attachment(invoice, maintype="application", subtype="pdf", filename="FN-20417.pdf")
    for number, part in enumerate([each for each in message.walk() if each.is_multipart()]):
        part.set_boundary(f"=====ellerby-{number}=====")
    return message.as_bytes()


def archive(members: list[tuple[str, bytes]]) -> bytes:
    """A ZIP archive whose bytes do not depend on the clock."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, data in members:
            made.writestr(zipfile.ZipInfo(name, (2026, 3, 1, 8, 0, 0)), data, zipfile.ZIP_DEFLATED)
    return out.getvalue()
