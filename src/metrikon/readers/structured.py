"""Files made for programs: JSON, XML with its e-invoices, vCard (RFC 6350) and iCalendar (RFC 5545)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from lxml import etree

from metrikon.core.documents.model import Document, Fact
from metrikon.core.documents.setting import Block, Grid
from metrikon.core.records.pointers import escape
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built
from metrikon.readers.charset import decoded
from metrikon.readers.einvoice import invoice_facts
from metrikon.readers.ical import event_facts
from metrikon.readers.spoken import spoken_json, transcript

MOST_FACTS = 5000
DEEPEST = 60
_CONTENT_LINE = re.compile(r"^([\w.-]+)((?:;[\w-]+=(?:\"[^\"]*\"|[^:;\"]*))*):(.*)$")


class StructuredReader:
    """Reads JSON, XML, vCard and iCalendar."""

    formats: tuple[str, ...] = ("json", "xml", "vcard", "icalendar")

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Facts with their paths, set as a table; lists of objects are tables of their own."""
        head = data[:400].lstrip(b"\xef\xbb\xbf \t\r\n\xff\xfe\x00")
        if head[:1] in (b"{", b"["):
            return _json(data, sha256, limits)
        if head[:1] == b"<":
            return _xml(data, sha256, limits)
        return _content_lines(data, sha256, limits)


def _json(data: bytes, sha256: str, limits: Limits) -> Document:
    found = decoded(data)
    try:
        value = loads(found.text if found else b"")
    except NotJson as error:
        raise Refused("broken", f"The file looks like JSON but is none: {error}.") from error
    sentences, rows = spoken_json(value)
    if sentences:
        return transcript(sha256, "json", sentences, limits, Carried(), shown=list(_leaves(_without(value, rows), "json"))[:MOST_FACTS])
    grids: list[Block] = []
    facts = list(_leaves(value, "json", grids))
    return built(sha256, "json", grids, limits, _cut(facts), shown=facts[:MOST_FACTS])


def _without(value: Any, rows: Any, depth: int = 0) -> Any:
    """A value without one of the lists in it."""
    if isinstance(value, Mapping) and depth < DEEPEST:
        return {name: _without(part, rows, depth + 1) for name, part in value.items() if part is not rows}
    return [] if value is rows else value


def _cut(facts: list[Fact]) -> Carried:
    carried = Carried()
    if len(facts) > MOST_FACTS:
        carried.warnings.append(f"The file holds {len(facts)} values; the first {MOST_FACTS} are taken.")
    return carried


def _leaves(value: Any, source: str, grids: list[Block] | None = None, path: str = "", depth: int = 0) -> Iterator[Fact]:
    """Every plain value with its JSON Pointer; a list of flat objects becomes a table in `grids`."""
    if depth > DEEPEST:
        raise Refused("too-deep", f"The file nests deeper than {DEEPEST} levels.")
    if isinstance(value, Mapping):
        for name, part in value.items():
            yield from _leaves(part, source, grids, f"{path}/{escape(str(name))}", depth + 1)
    elif isinstance(value, list):
        if grids is not None and (grid := _table(value)) is not None:
            grids.append(grid)
            return
        for number, part in enumerate(value):
            yield from _leaves(part, source, grids, f"{path}/{number}", depth + 1)
    elif value is not None:
        yield Fact(source, path, _name(path), _shown(value))


def _table(rows: list[Any]) -> Grid | None:
    if len(rows) < 2 or not all(isinstance(row, Mapping) for row in rows):
        return None
    names = list(dict.fromkeys(str(name) for row in rows for name in row))
    if any(isinstance(part, Mapping | list) for row in rows for part in row.values()) or len(names) > 60:
        return None
    return Grid(tuple(names), tuple(tuple(_shown(row.get(name)) for name in names) for row in rows))


def _shown(value: Any) -> str:
    if value is None:
        return ""
    return ("true" if value else "false") if isinstance(value, bool) else clean(str(value))


def _name(path: str) -> str:
    parts = [part.replace("~1", "/").replace("~0", "~") for part in path.split("/")[1:]]
    return clean(" ".join(part for part in parts[-2:] if not part.isdecimal()).replace("_", " ")) or "value"


def parsed_xml(data: bytes) -> etree._Element:
    """The root of an XML file. Nothing outside it is looked at, no entity is expanded. Raises `Refused`."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True)
    try:
        return etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise Refused("broken", f"The file looks like XML but is none: {clean(str(error))[:160]}.") from error


def _xml(data: bytes, sha256: str, limits: Limits) -> Document:
    root = parsed_xml(data)
    invoice = invoice_facts(root)
    if invoice is not None:
        return built(sha256, invoice.source, invoice.grids, limits, Carried(warnings=invoice.warnings), shown=invoice.facts)
    facts = list(_elements(root, "", 0))
    return built(sha256, "xml", [], limits, _cut(facts), shown=facts[:MOST_FACTS])


def _elements(element: etree._Element, path: str, depth: int, number: int = 1) -> Iterator[Fact]:
    if depth > DEEPEST:
        raise Refused("too-deep", f"The file nests deeper than {DEEPEST} levels.")
    name = etree.QName(element).localname if isinstance(element.tag, str) else "entity"
    here = f"{path}/{name}" + (f"[{number}]" if number > 1 else "")
    for attribute, value in element.attrib.items():
        yield Fact("xml", f"{here}/@{etree.QName(attribute).localname}", f"{name} {etree.QName(attribute).localname}", clean(str(value)))
    text = clean(element.text or "")
    if text:
        yield Fact("xml", here, name, text)
    counts: dict[str, int] = {}
    for child in element:
        if not isinstance(child.tag, str):
            continue
        local = etree.QName(child).localname
        counts[local] = counts.get(local, 0) + 1
        yield from _elements(child, here, depth + 1, counts[local])


def _content_lines(data: bytes, sha256: str, limits: Limits) -> Document:
    found = decoded(data)
    if found is None:
        raise Refused("broken", "The file holds bytes that are no text.")
    text = re.sub(r"\r?\n[ \t]", "", found.text)  # folded lines (RFC 5545, 3.1)
    source = "vcard" if text.lstrip()[:11].upper() == "BEGIN:VCARD" else "icalendar"
    facts: list[Fact] = []
    stack: list[str] = []
    for line in text.splitlines():
        match = _CONTENT_LINE.match(line)
        if not match:
            continue
        name, parameters, value = match.group(1).upper(), match.group(2), _unescaped(match.group(3))
        if name == "BEGIN":
            stack.append(value.upper())
        elif name == "END":
            stack[-1:] = []
        elif value and name not in ("VERSION", "PRODID", "PHOTO", "LOGO"):
            kind = re.search(r"TYPE=\"?([\w,-]+)", parameters, re.I)
            label = name.split(".")[-1].replace("-", " ").capitalize() + (f" ({kind.group(1).lower()})" if kind else "")
            facts.append(Fact(source, "/" + "/".join([*stack, name]), label, value))
    if not facts:
        raise Refused("broken", "The file holds no entries.")
    if source == "icalendar":
        facts = [*event_facts(found.text), *(fact for fact in facts if "/VTIMEZONE" not in fact.path)]
    return built(sha256, source, [], limits, _cut(facts), shown=facts[:MOST_FACTS])


def _unescaped(value: str) -> str:
    joined = re.sub(r"(?<!\\);", " ", value)
    return clean(joined.replace("\\n", " ").replace("\\N", " ").replace("\\,", ",").replace("\\;", ";").replace("\\\\", "\\"))
