"""The parts of an office document: a ZIP archive of which some parts are changed, and all others stay byte for byte. Within limits: it is a stranger's."""

from __future__ import annotations

import io
import itertools
import zipfile
from collections.abc import Mapping
from typing import Any

from lxml import etree

from metrikon.core.templates.filling import BadTemplate

MOST_PARTS, LARGEST, WHOLE = 5000, 50_000_000, 200_000_000  # parts; bytes of one that is read, of all
MOST_ELEMENTS = 200_000  # of a part: a report of a thousand pages has about half as many
MOMENT = (2026, 1, 1, 0, 0, 0)  # of what is added: the same values give the same bytes


def opened(data: bytes) -> zipfile.ZipFile:
    """The archive. Raises `BadTemplate`."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except (zipfile.BadZipFile, ValueError, OSError) as error:
        raise BadTemplate("It is no document of an office program: it cannot be opened as one.") from error
    parts = archive.infolist()
    if len(parts) > MOST_PARTS or sum(each.file_size for each in parts) > WHOLE:
        raise BadTemplate("It is larger unpacked than a template may be.")
    if any(each.flag_bits & 1 for each in parts):
        raise BadTemplate("It is locked with a password. Save it without one.")
    return archive


def part(archive: zipfile.ZipFile, name: str) -> bytes:
    """The bytes of a part. Raises `BadTemplate`."""
    try:
        info = archive.getinfo(name)
        if info.file_size > LARGEST:
            raise BadTemplate(f"Its part {name} is larger than a template may be.")
        with archive.open(info) as held:
            data = held.read(LARGEST + 1)
    except KeyError as error:
        raise BadTemplate(f"It has no part {name}: it is no such document.") from error
    except (zipfile.BadZipFile, EOFError, OSError, NotImplementedError) as error:
        raise BadTemplate(f"Its part {name} is broken.") from error
    if len(data) > LARGEST:
        raise BadTemplate(f"Its part {name} is larger than a template may be.")
    return data


def parsed(data: bytes) -> Any:
    """The root of a part that is XML. Raises `BadTemplate`."""
    try:
        root = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False))
    except etree.XMLSyntaxError as error:
        raise BadTemplate(f"It is broken: {error.msg}.") from error
    return counted(root)


def counted(root: Any) -> Any:
    """The root itself. Raises `BadTemplate` where it holds more elements than are gone through."""
    if next(itertools.islice(root.iter(), MOST_ELEMENTS, None), None) is not None:
        raise BadTemplate(f"It has more than {MOST_ELEMENTS:,} elements (paragraphs, cells, runs of text).")
    return root


def written(root: Any) -> bytes:
    """A part as bytes."""
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", standalone=True))


def packed(archive: zipfile.ZipFile, changed: Mapping[str, bytes], added: Mapping[str, bytes]) -> bytes:
    """The archive with parts changed and added, the others as they are."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for info in archive.infolist():
            data = changed[info.filename] if info.filename in changed else part(archive, info.filename)
            made.writestr(info, data, compress_type=info.compress_type if info.compress_type == zipfile.ZIP_STORED else zipfile.ZIP_DEFLATED)
        for name, data in added.items():
            made.writestr(zipfile.ZipInfo(name, MOMENT), data, compress_type=zipfile.ZIP_DEFLATED)
    return out.getvalue()
