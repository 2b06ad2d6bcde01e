"""ZIP archives, and the office files that are such: opened within limits, members read one at a time."""

from __future__ import annotations

import hashlib
import io
import zipfile
import zlib
from collections.abc import Iterator

from lxml import etree

from metrikon.core.documents.model import Document, Part
from metrikon.core.documents.setting import Grid
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built

_NOISE = ("__MACOSX/", ".DS_Store", "Thumbs.db", "desktop.ini")


def check_archive(data: bytes, limits: Limits) -> zipfile.ZipFile:
    """The archive, when its directory keeps to the limits. Raises `Refused` naming the limit."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        members = archive.infolist()
    except (zipfile.BadZipFile, OSError, NotImplementedError, ValueError, EOFError) as error:
        raise Refused("broken", "The archive cannot be opened. It is broken or cut off; ask the sender for a new one.") from error
    if len(members) > max(limits.max_members, 2000):
        raise Refused("too-large", f"The archive holds {len(members)} files; the limit is {limits.max_members} (setting max_members).")
    expanded = sum(member.file_size for member in members)
    if expanded > limits.max_expanded:
        raise Refused(
            "too-large", f"The archive expands to {expanded / 1e6:.0f} MB; the limit is {limits.max_expanded / 1e6:.0f} MB (setting max_expanded)."
        )
    for member in members:
        if member.file_size > 1_000_000 and member.file_size > limits.max_ratio * max(member.compress_size, 1):
            ratio = member.file_size // max(member.compress_size, 1)
            raise Refused(
                "too-large",
                f"{clean(member.filename)[:80]} in the archive expands {ratio} times; the limit is {limits.max_ratio} (setting max_ratio).",
            )
    return archive


def member_xml(archive: zipfile.ZipFile, member: str, limits: Limits) -> etree._Element:
    """The root of an XML part of an office file. Nothing outside it is looked at. Raises `Refused` naming the part."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        return etree.parse(io.BytesIO(member_bytes(archive, archive.getinfo(member), limits)), parser).getroot()
    except (etree.XMLSyntaxError, KeyError, ValueError) as error:
        raise Refused("broken", f"The document's part {member} is damaged; ask the sender for a new one.") from error


def member_bytes(archive: zipfile.ZipFile, member: zipfile.ZipInfo, limits: Limits) -> bytes:
    """The bytes of a member, never more than its directory says and the limits allow. Raises `Refused`."""
    if member.flag_bits & 1:
        raise Refused(
            "encrypted",
            f"{clean(member.filename)[:80]} in the archive is encrypted. Set the password that opens it on the flow, or ask for the file without one.",
        )
    try:
        with archive.open(member) as stream:
            data = stream.read(min(member.file_size, limits.max_expanded) + 1)
    except (zipfile.BadZipFile, OSError, NotImplementedError, RuntimeError, ValueError, EOFError, zlib.error) as error:
        raise Refused("broken", f"{clean(member.filename)[:80]} in the archive is damaged; ask the sender for a new one.") from error
    if len(data) > member.file_size:
        raise Refused("too-large", f"{clean(member.filename)[:80]} in the archive is larger than the archive says. It is not read.")
    return data


class ArchiveReader:
    """Reads ZIP archives: what is in them is listed, and each file can be an item of its own."""

    formats: tuple[str, ...] = ("zip",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """A table of the members; each is a part of the document."""
        carried = Carried()
        parts = tuple(part for part, _ in self.parts(data, limits, carried.warnings))
        if not parts:
            carried.warnings.append("The archive holds no files.")
        grid = Grid(("File", "Bytes"), tuple((part.name, str(part.size)) for part in parts))
        return built(sha256, "zip", [grid] if parts else [], limits, Carried(parts=parts, warnings=carried.warnings))

    def parts(self, data: bytes, limits: Limits, warnings: list[str] | None = None) -> Iterator[tuple[Part, bytes]]:
        """Every file in the archive with its bytes."""
        archive = check_archive(data, limits)
        count = 0
        for member in archive.infolist():
            name = clean(member.filename.replace("\\", "/").rsplit("/", 1)[-1])[:255]
            if member.is_dir() or not name or any(noise in member.filename for noise in _NOISE):
                continue
            count += 1
            if count > limits.max_members:
                raise Refused("too-large", f"The archive holds more than {limits.max_members} files (setting max_members).")
            content = member_bytes(archive, member, limits)
            if not content:
                if warnings is not None:
                    warnings.append(f"{name} in the archive is empty.")
                continue
            yield Part(name, hashlib.sha256(content).hexdigest(), len(content), "member"), content
