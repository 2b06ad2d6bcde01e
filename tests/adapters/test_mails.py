"""Mails: headers, the text that was written now, what it quotes, and what is attached."""

from __future__ import annotations

import io
from email.message import EmailMessage

import pytest
from PIL import Image

from metrikon.core.documents.model import Document
from metrikon.core.documents.text import document_text
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.registry import parts, read


def message(text: str = "The ferns have come.", **headers: str) -> EmailMessage:
    made = EmailMessage()
    for name, value in {"From": "ada@fern.example", "To": "office@ellerby.example", "Subject": "Ferns", **headers}.items():
        made[name.replace("_", "-")] = value
    made.set_content(text)
    return made


def png(wide: int, high: int) -> bytes:
    out = io.BytesIO()
    Image.effect_noise((wide, high), 80).save(out, "PNG")
    return out.getvalue()


def found(made: EmailMessage) -> Document:
    return read(made.as_bytes())


def facts(document: Document) -> dict[str, str]:
    return {fact.name: fact.value for fact in document.facts}


@pytest.mark.parametrize(
    ("subject", "shown"),
    [
        ("=?utf-8?B?R3LDvMOfZSBhdXMgZGVtIEdhcnRlbg==?=", "Grüße aus dem Garten"),
        ("=?iso-8859-1?Q?Gr=FC=DFe?= und mehr", "Grüße und mehr"),
        ("=?utf-8?B?broken", "=?utf-8?B?broken"),
    ],
)
def test_headers_are_decoded_as_far_as_they_can_be(subject: str, shown: str) -> None:
    raw = f"From: ada@fern.example\r\nTo: office@ellerby.example\r\nSubject: {subject}\r\n\r\nHello there.\r\n"
    assert facts(read(raw.encode()))["Subject"] == shown


@pytest.mark.parametrize(
    "quote",
    [
        "> What is the price?",
        "On 3 March 2026, Ben wrote:",
        "Am 3. März 2026 um 10:04 schrieb Ben:",
        "-----Original Message-----",
        "---------- Forwarded message ---------",
    ],
)
def test_what_a_mail_quotes_is_set_apart(quote: str) -> None:
    text = document_text(found(message(f"The price is 4.50.\n\n{quote}\n> It was 9.99 last year.\n")))
    own, _, quoted = text.partition("Earlier messages that this one quotes:")
    assert "4.50" in own
    assert "9.99" not in own
    assert "9.99" in quoted


def test_the_plain_text_is_read_before_the_one_in_html() -> None:
    made = message("plain words")
    made.add_alternative("<p>marked words</p>", subtype="html")
    assert "plain words" in document_text(found(made))
    assert "marked words" not in document_text(found(made))


def test_html_alone_is_read_as_a_page() -> None:
    made = EmailMessage()
    made["From"], made["Subject"] = "ada@fern.example", "x"
    made.set_content('<html><body><p>The price is <s>9.99</s> 4.50</p><p style="display:none">secret</p></body></html>', subtype="html")
    document = found(made)
    assert "[crossed out: 9.99] 4.50" in document_text(document)
    assert "secret" not in document_text(document)


@pytest.mark.parametrize(
    ("wide", "high", "inline", "role"),
    [(90, 40, True, "inline"), (1200, 1600, True, "attachment"), (1200, 1600, False, "attachment"), (40, 40, False, "inline")],
)
def test_logos_are_told_from_pictures_of_documents(wide: int, high: int, inline: bool, role: str) -> None:
    made = message()
    made.add_alternative('<p>Look: <img src="cid:pic"></p>', subtype="html")
    data = png(wide, high)
    if inline:
        payload = made.get_payload()
        payload[1].add_related(data, "image", "png", cid="<pic>", filename="pic.png", disposition="inline")  # type: ignore[union-attr,index]
    else:
        made.add_attachment(data, maintype="image", subtype="png", filename="pic.png")
    assert [part.role for part in found(made).parts] == [role]


def test_a_mail_within_a_mail_is_one_part_that_can_be_read() -> None:
    made = message("see below")
    made.add_attachment(message("inner words", Subject="Inner"))
    ((part, data),) = parts(made.as_bytes())
    assert part.media == "message/rfc822"
    inner = read(data)
    assert facts(inner)["Subject"] == "Inner"
    assert "inner words" in document_text(inner)


@pytest.mark.parametrize("name", ["../../etc/passwd", "C:\\temp\\bill.pdf", ""])
def test_names_of_attachments_lead_nowhere(name: str) -> None:
    made = message()
    made.add_attachment(b"%PDF-1.4 x", maintype="application", subtype="pdf", filename=name or None)
    ((part, _),) = parts(made.as_bytes())
    assert "/" not in part.name
    assert "\\" not in part.name
    assert "\x00" not in part.name
    assert part.name


def test_more_parts_than_allowed_are_refused_by_name_of_the_setting() -> None:
    made = message()
    for number in range(12):
        made.add_attachment(b"x", maintype="application", subtype="octet-stream", filename=f"{number}.bin")
    with pytest.raises(Refused, match="max_members"):
        read(made.as_bytes(), Limits(max_members=10))


@pytest.mark.parametrize("charset", ["utf-8", "iso-8859-1", "windows-1252", "no-such-thing"])
def test_a_text_is_read_in_the_encoding_it_names_or_the_likeliest(charset: str) -> None:
    encoding = "utf-8" if charset == "no-such-thing" else charset
    raw = f"From: a@b.example\r\nSubject: x\r\nContent-Type: text/plain; charset={charset}\r\nContent-Transfer-Encoding: 8bit\r\n\r\n".encode()
    assert "Crêpes für Müller" in document_text(read(raw + "Crêpes für Müller".encode(encoding)))


def test_a_mail_and_its_attachments_are_read_as_one_and_each_page_says_of_which_file_it_is() -> None:
    from metrikon.demo import scenario

    made = message("The bill for the ferns is attached.")
    made.add_attachment(scenario.document("01-fernhill-nurseries.pdf"), "application", "pdf", filename="bill.pdf")
    made.add_attachment(b"\x00\x01 no file at all", "application", "octet-stream", filename="odd.bin")
    document = found(made)
    assert [page.part for page in document.pages] == ["", "bill.pdf"]
    assert [page.number for page in document.pages] == [1, 2]
    assert all(cell.page == 2 for table in document.tables for row in table.rows for cell in row if cell.words)
    assert "Fernhill Nurseries Ltd" in document_text(document)
    assert any("odd.bin was not read along" in warning for warning in document.warnings)


def test_a_mail_whose_plain_part_only_points_to_the_other_is_read_from_its_html() -> None:
    made = message("Your program does not show HTML.")
    made.add_alternative(
        "<p>We order <b>twelve royal ferns</b> and nine lady ferns for the walk behind the palm house, to be brought on the second of May, please.</p>",
        "html",
    )
    assert "twelve royal ferns" in document_text(found(made))
    made = message("We order twelve royal ferns and nine lady ferns for the walk behind the palm house.")
    made.add_alternative(
        "<p>We order twelve royal ferns and nine lady ferns for the walk behind the palm house.</p><p>Sent from a garden.</p>", "html"
    )
    assert "Sent from a garden" not in document_text(found(made))


def test_a_mail_within_a_mail_is_read_along_and_one_that_lies_deeper_is_not() -> None:
    made = message("The innermost ferns.", Subject="Level 5")
    for level in range(4, -1, -1):
        outer = message(f"Forwarded at level {level}.", Subject=f"Level {level}")
        outer.add_attachment(made)
        made = outer
    text = document_text(found(made))
    assert "Forwarded at level 3." in text
    assert "innermost" not in text


def test_a_delivery_report_says_what_failed_and_a_digest_holds_its_messages() -> None:
    report = (
        "From: post@fern.example\nSubject: Undelivered\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n"
        "--b\nContent-Type: text/plain\n\nYour mail did not arrive.\n"
        "--b\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; mail.fern.example\n\nFinal-Recipient: rfc822; ada@moss.example\nStatus: 5.1.1\n--b--\n"
    )
    text = document_text(read(report.encode()))
    assert all(each in text for each in ("did not arrive", "mail.fern.example", "ada@moss.example", "5.1.1"))
    digest = (
        "From: list@fern.example\nSubject: Digest\nContent-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/plain\n\nTwo messages.\n"
        "--b\nContent-Type: multipart/digest; boundary=c\n\n--c\nContent-Type: text/plain\nFrom: ada@fern.example\nSubject: Spores\n\nSow them now.\n--c--\n--b--\n"
    )
    text = document_text(read(digest.encode()))
    assert all(each in text for each in ("Two messages.", "Spores", "Sow them now."))


def test_attachments_are_named_with_their_types() -> None:
    made = message()
    made.add_attachment(b"a;b\n1;2\n", maintype="text", subtype="csv", filename="tarifs_été.csv")
    assert facts(found(made))["Attachment"] == "tarifs_été.csv (text/csv)"


CALENDAR = """BEGIN:VCALENDAR
VERSION:2.0
BEGIN:VEVENT
UID:fern-walk
DTSTART;TZID=Europe/Berlin:20261029T133000
DTEND;TZID=Europe/Berlin:20261029T150000
RRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=3
EXDATE;TZID=Europe/Berlin:20261112T133000
SUMMARY:Fern walk
ORGANIZER;CN=Ada Fern:mailto:ada@fern.example
ATTENDEE;CN=Ben Moss;PARTSTAT=ACCEPTED;ROLE=CHAIR:mailto:ben@moss.example
BEGIN:VALARM
ACTION:DISPLAY
TRIGGER:-PT45M
END:VALARM
END:VEVENT
END:VCALENDAR
"""


def test_an_invitation_is_read_as_people_read_it_and_once_where_it_comes_twice() -> None:
    made = message()
    made.add_alternative(CALENDAR, subtype="calendar")
    made.add_attachment(CALENDAR.encode(), maintype="application", subtype="ics", filename="walk.ics")
    text = document_text(found(made))
    for each in (
        "2026-10-29T13:30:00+01:00",
        "90 minutes",
        "2026-10-29, 2026-11-26",
        "Ben Moss <ben@moss.example>",
        "accepted, chair",
        "45 minutes before",
    ):
        assert each in " ".join(text.split()), each
    assert text.count("Ada Fern") == 1


@pytest.mark.parametrize(
    ("rule", "days"),
    [
        ("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30", None),  # looked for until the year 9999, it would never come
        ("FREQ=SECONDLY", None),
        ("FREQ=WEEKLY;UNTIL=20261105T000000", "2026-10-29"),
        ("FREQ=DAILY", ", ".join(["2026-10-29", "2026-10-30"])),
    ],
)
def test_a_rule_is_followed_to_its_end_or_not_at_all(rule: str, days: str | None) -> None:
    plain = (
        "BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nUID:x\nSUMMARY:Walk\nDTSTART:20261029T133000\nRRULE:" + rule + "\nEND:VEVENT\nEND:VCALENDAR\n"
    )
    told = facts(read(plain.encode())).get("On")
    assert told is None if days is None else (told or "").startswith(days)
    assert len((told or "").split(", ")) <= 60
