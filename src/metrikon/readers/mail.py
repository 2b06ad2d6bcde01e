"""Mails (RFC 5322, MIME): headers, the text, what it quotes, and its attachments."""

from __future__ import annotations

import email
import email.policy
import hashlib
import io
import re
from collections.abc import Iterator, Sequence
from email.message import EmailMessage, Message

from metrikon.core.documents.joining import joined
from metrikon.core.documents.model import Document, Fact, Link, Part
from metrikon.core.documents.setting import Block, block_texts, paragraph
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built
from metrikon.readers.plain import text_blocks
from metrikon.readers.web import Found, main_text, parsed

_HEADERS = ("From", "To", "Cc", "Reply-To", "Date", "Subject")
_QUOTES = re.compile(
    r"^(?:>.*|-{3,}\s*(?:original message|ursprüngliche nachricht|message d'origine|forwarded message|weitergeleitete nachricht)\s*-{3,}"
    r"|(?:on|am|le|el)\s.{6,120}\s(?:wrote|schrieb|a écrit|escribió)\b.{0,80}:\s*"
    r"|_{10,})$",
    re.I,
)
MOST_NESTED = 3  # mails within mails that are read along; what lies deeper is kept as a file of its own
BODY = (
    "text/plain",
    "text/html",
    "message/delivery-status",
    "text/rfc822-headers",
)  # types of parts that are text of the mail where they bear no name
SMALL_SIDE, SMALL_BYTES = 260, 40_000  # a picture within a text up to this size is a logo, not a document
DEEPEST = 20
NOT_ALONG = ("zip", "wav", "mp3", "ogg", "flac", "m4a")  # formats of attachments that are items of their own


class MailReader:
    """Reads EML files."""

    formats: tuple[str, ...] = ("eml",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Headers as facts, then the text, with what it quotes after it; then the pages of its attachments."""
        return self.nested(data, sha256, limits, 0)

    def nested(self, data: bytes, sha256: str, limits: Limits, depth: int) -> Document:
        """The same of a mail that lies within so many others."""
        message = _parsed(data)
        carried = Carried()
        within = list(self.parts(data, limits))
        parts = tuple(part for part, _ in within)
        body, links = _body(message, carried.warnings)
        own, quoted = _apart(body)
        headers = ((name, _header(message, name)) for name in _HEADERS)
        facts = tuple(Fact("header", f"/{name}", name, value) for name, value in headers if value)
        id_ = tuple(
            Fact("header", "/Message-ID", "Message-ID", value) for value in (_header(message, "Message-ID"),) if value
        )  # no reader of mails shows it
        rest: list[Block] = [paragraph("Earlier messages that this one quotes:", 2), *quoted] if quoted else []
        named = [part for part in parts if part.role == "attachment"]
        along = _attached(within, limits, carried.warnings, depth)
        told = tuple(Fact("attachment", f"/attachments/{n}", "Attachment", f"{part.name} ({part.media})") for n, part in enumerate(named, 1))
        mail = built(sha256, "eml", [*own, *rest], limits, Carried(id_, tuple(links), (), parts, carried.warnings), shown=(*facts, *told))
        return joined(mail, along, limits.max_pages)

    def parts(self, data: bytes, limits: Limits, warnings: list[str] | None = None) -> Iterator[tuple[Part, bytes]]:
        """Attachments with their bytes; pictures that belong to the text are "inline"."""
        message = _parsed(data)
        shown = _shown_pictures(message)
        total = 0
        for number, part in enumerate(_leaves(message, 0)):
            if number >= limits.max_members:
                raise Refused("too-large", f"The mail holds more than {limits.max_members} parts (setting max_members).")
            name = clean((part.get_filename() or "").replace("\\", "/").rsplit("/", 1)[-1])[:255]
            if not name and part.get_content_type() in BODY and part.get_content_disposition() != "attachment":
                continue
            content = _bytes(part)
            total += len(content)
            if total > limits.max_expanded:
                raise Refused("too-large", f"The attachments come to more than {limits.max_expanded / 1e6:.0f} MB (setting max_expanded).")
            if not content:
                continue
            media = part.get_content_type()
            name = name or f"{'message' if media == 'message/rfc822' else 'attachment'}-{number + 1}"
            role = "inline" if _is_inline(part, content, shown) else "attachment"
            yield Part(name, hashlib.sha256(content).hexdigest(), len(content), role, media), content


def _attached(within: Sequence[tuple[Part, bytes]], limits: Limits, warnings: list[str], depth: int) -> list[tuple[str, Document]]:
    """What the attachments say, each content once: an invitation often comes both beside the text and as a file."""
    found: dict[str, tuple[str, Document]] = {}
    for part, content in within:
        if part.role == "attachment" and part.sha256 not in found and (read := _read(part, content, limits, warnings, depth)):
            found[part.sha256] = (part.name, read)
    return list(found.values())


def _read(part: Part, content: bytes, limits: Limits, warnings: list[str], depth: int) -> Document | None:
    """What an attachment says, read along with its mail; nothing of those that cannot be read, are archives, or lie too deep."""
    from metrikon.readers.registry import found_format, read

    try:
        kind = "eml" if part.media == "message/rfc822" else found_format(content[:65_536]).format
        if kind in NOT_ALONG or (kind == "eml" and depth >= MOST_NESTED):
            return None
        return MailReader().nested(content, part.sha256, limits, depth + 1) if kind == "eml" else read(content, limits)
    except Refused as error:
        warnings.append(f"The attachment {part.name} was not read along. {error.reason}")
        return None


def _parsed(data: bytes) -> EmailMessage:
    try:
        message = email.message_from_bytes(data, policy=email.policy.default)
    except (ValueError, LookupError, RecursionError, TypeError, IndexError) as error:
        raise Refused("broken", "The mail cannot be taken apart; it is damaged.") from error
    assert isinstance(message, EmailMessage)
    return message


def _header(message: EmailMessage, name: str) -> str:
    """A header's text; as it was sent when it is too damaged to be decoded."""
    try:
        value = str(message.get(name, ""))
    except (IndexError, ValueError, TypeError, AttributeError, LookupError):
        value = next((str(raw) for key, raw in message.raw_items() if key.lower() == name.lower()), "")
    return clean(value)[:2000]


def _leaves(message: EmailMessage, depth: int) -> Iterator[EmailMessage]:
    """Every part that holds no others; attached mails are one part each."""
    if depth > DEEPEST:
        raise Refused("too-deep", f"The mail nests deeper than {DEEPEST} levels.")
    if message.get_content_type() in ("message/rfc822", "message/delivery-status") or not message.is_multipart():
        yield message
        return
    for part in message.get_payload():
        if isinstance(part, EmailMessage):
            yield from _leaves(part, depth + 1)


def _bytes(part: EmailMessage) -> bytes:
    if part.get_content_type() == "message/rfc822":
        inner = part.get_payload()
        return inner[0].as_bytes() if isinstance(inner, list) and inner and isinstance(inner[0], EmailMessage) else b""
    if part.get_content_type() == "message/delivery-status":
        blocks = part.get_payload()
        return b"\n".join(each.as_bytes() for each in blocks if isinstance(each, Message)) if isinstance(blocks, list) else b""
    try:
        content = part.get_payload(decode=True)
    except (ValueError, LookupError, AssertionError):
        return b""
    return content if isinstance(content, bytes) else b""


def _text(part: EmailMessage) -> str:
    data = _bytes(part)
    charset = part.get_content_charset() or "utf-8"
    try:
        return data.decode(charset)
    except (LookupError, UnicodeDecodeError):
        from metrikon.readers.charset import decoded

        found = decoded(data)
        return found.text if found else data.decode("utf-8", "replace")


def _body(message: EmailMessage, warnings: list[str]) -> tuple[list[Block], list[Link]]:
    """The text of a mail and its links: every part that is text, one after the other; of two forms of the same the plain one."""
    blocks: list[Block] = []
    links: list[Link] = []
    for part in _texts(message, 0):
        found, more = _text_of(part)
        if found and blocks and (heads := _heads(part)):
            blocks += heads
        blocks += found
        links += more
    if not blocks:
        warnings.append("The mail holds no text of its own.")
    return blocks, links


def _texts(message: EmailMessage, depth: int) -> Iterator[EmailMessage]:
    """The parts that are text of the mail: leaves, and the two forms of a text as one."""
    if depth > DEEPEST or message.get_content_disposition() == "attachment" or message.get_filename():
        return
    kind = message.get_content_type()
    if kind in BODY or kind == "multipart/alternative":
        yield message
    elif message.is_multipart() and kind != "message/rfc822":
        for part in message.get_payload():
            if isinstance(part, EmailMessage):
                yield from _texts(part, depth + 1)


def _heads(part: EmailMessage) -> list[Block]:
    """The headers of a message that is a part of a digest."""
    told = [(name, text) for name in ("From", "Date", "Subject") if (text := _header(part, name))]
    return [paragraph(f"{name}: {text}") for name, text in told]


def _text_of(part: EmailMessage) -> tuple[list[Block], list[Link]]:
    """The blocks and the links of one text."""
    plain, marked = None, None
    for leaf in _leaves(part, 0):
        if leaf.get_content_disposition() == "attachment" or leaf.get_filename():
            continue
        if leaf.get_content_type() == "text/html":
            marked = marked or _text(leaf)
        elif leaf.get_content_type() in BODY:
            plain = plain or _text(leaf)
    found = main_text(parsed(marked.encode("utf-8", "replace"))) if marked and marked.strip() else None
    if plain and plain.strip() and not (found and _says_more(found, plain)):
        return text_blocks(plain), found.links if found else []
    return (found.blocks, found.links) if found else ([], [])


def _says_more(found: Found, plain: str) -> bool:
    """Whether the HTML of a mail holds its text and the plain part only says to look there."""
    words = sum(len(text.split()) for block in found.blocks for text in block_texts(block))
    return words > 20 and len(plain.split()) < 0.4 * words


def _apart(blocks: list[Block]) -> tuple[list[Block], list[Block]]:
    """The message's own blocks, and those of the messages it quotes."""
    for number, block in enumerate(blocks):
        if _QUOTES.match(clean(" ".join(block_texts(block)))) and number:
            return blocks[:number], blocks[number:]
    return blocks, []


def _shown_pictures(message: EmailMessage) -> set[str]:
    """Content ids that the HTML text shows in its midst."""
    found: set[str] = set()
    for part in _leaves(message, 0):
        if part.get_content_type() == "text/html" and not part.get_filename():
            found.update(re.findall(r"cid:([^\"'\s>)]{1,200})", _text(part)))
    return found


def _is_inline(part: EmailMessage, content: bytes, shown: set[str]) -> bool:
    """Whether a picture belongs to the text (a logo, a signature) and is no document of its own."""
    if part.get_content_maintype() != "image":
        return False
    named = _header(part, "Content-ID").strip("<> ") in shown
    small = len(content) <= SMALL_BYTES or _sides(content) <= SMALL_SIDE
    return small if (named or part.get_content_disposition() == "inline") else len(content) <= 8_000 and _sides(content) <= SMALL_SIDE


def _sides(content: bytes) -> int:
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(io.BytesIO(content)) as opened:
            return min(opened.size)
    except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError):
        return 10_000
