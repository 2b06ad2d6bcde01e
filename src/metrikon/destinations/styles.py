"""The styles of a workbook: those that are there are used, and few are added, for dates, amounts and text that begins like a formula."""

from __future__ import annotations

import copy
import re
from decimal import Decimal
from typing import Any

from lxml import etree

_PARSER = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
_DATES = {*range(14, 23), *range(27, 37), *range(45, 48), *range(50, 59)}  # built-in formats of dates (ECMA-376, 18.8.30)
_EMPTY = b"""<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<styleSheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><fonts count="2"><font><sz val="11"/><name val="Calibri"/><family val="2"/></font><font><b/><sz val="11"/><name val="Calibri"/><family val="2"/></font></fonts><fills count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill patternType="gray125"/></fill></fills><borders count="1"><border><left/><right/><top/><bottom/><diagonal/></border></borders><cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/></cellStyleXfs><cellXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0" xfId="0"/></cellXfs><cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>"""


class Styles:
    """The formats of cells of a workbook, as its part `styles` has them."""

    def __init__(self, data: bytes | None) -> None:
        self._given = data
        self._root = etree.fromstring(data or _EMPTY, _PARSER)
        self._space = self._root.tag.partition("}")[0] + "}"
        found = self._root.find(f"{self._space}cellXfs")
        self._formats = found if found is not None else etree.SubElement(self._root, f"{self._space}cellXfs")
        self._made: dict[tuple[str, int], int] = {}
        self._changed = False

    @staticmethod
    def fresh() -> bytes:
        """The styles of a new workbook."""
        return _EMPTY

    def data(self) -> bytes:
        """The part as it is now: byte for byte as it was where nothing was added."""
        if not self._changed and self._given is not None:
            return self._given
        return bytes(etree.tostring(self._root, xml_declaration=True, encoding="UTF-8", standalone=True))

    def is_date(self, style: int) -> bool:
        """Whether cells of a style show dates."""
        number = self._number_format(style)
        return number in _DATES or bool(re.search(r"[yd]", re.sub(r'"[^"]*"|\[[^\]]*\]|\\.', "", self._code(number)), re.I))

    def is_text(self, style: int) -> bool:
        """Whether cells of a style are shown as text, or as dates, so that they fit no number."""
        return self._number_format(style) == 49 or self.is_date(style)

    def date(self, timed: bool) -> int:
        """A style for dates, or for dates with a time."""
        return self._style("yyyy-mm-dd hh:mm:ss" if timed else "yyyy-mm-dd", 0)

    def number(self, value: int | Decimal) -> int:
        """A style for a number, with the places that it has."""
        if isinstance(value, int):
            return 0
        exponent = value.as_tuple().exponent
        places = -exponent if isinstance(exponent, int) else 0
        return self._style(f"#,##0.{'0' * max(2, min(8, places))}", 0) if places > 0 else 0

    def quoted(self, style: int) -> int:
        """The same style for text that would be taken for a formula when it is edited."""
        known = self._made.get(("quoted", style))
        if known is None:
            known = self._made["quoted", style] = self._add(style, quotePrefix="1")
        return known

    def bold(self) -> int:
        """A style for the heads of columns."""
        known = self._made.get(("bold", 0))
        if known is None:
            fonts = self._root.find(f"{self._space}fonts")
            number = next((at for at, each in enumerate(fonts) if each.find(f"{self._space}b") is not None), 0) if fonts is not None else 0
            known = self._made["bold", 0] = self._add(0, fontId=str(number), applyFont="1")
        return known

    def _style(self, code: str, base: int) -> int:
        known = self._made.get((code, base))
        if known is not None:
            return known
        number = self._format_of(code)
        for at, each in enumerate(self._formats):
            if (
                each.get("numFmtId") == str(number)
                and each.get("fontId", "0") == "0"
                and each.get("fillId", "0") == "0"
                and each.get("quotePrefix") is None
            ):
                self._made[code, base] = at
                return at
        self._made[code, base] = self._add(base, numFmtId=str(number), applyNumberFormat="1")
        return self._made[code, base]

    def _format_of(self, code: str) -> int:
        formats = self._root.find(f"{self._space}numFmts")
        if formats is None:
            formats = etree.Element(f"{self._space}numFmts", count="0")
            self._root.insert(0, formats)
        for each in formats:
            if each.get("formatCode") == code:
                return int(each.get("numFmtId") or 0)
        number = max([163, *(int(each.get("numFmtId") or 0) for each in formats)]) + 1
        etree.SubElement(formats, f"{self._space}numFmt", numFmtId=str(number), formatCode=code)
        formats.set("count", str(len(formats)))
        self._changed = True
        return number

    def _add(self, base: int, **changes: str) -> int:
        made = copy.deepcopy(self._formats[base]) if base < len(self._formats) else etree.Element(f"{self._space}xf")
        for name, value in changes.items():
            made.set(name, value)
        self._formats.append(made)
        self._formats.set("count", str(len(self._formats)))
        self._changed = True
        return len(self._formats) - 1

    def _number_format(self, style: int) -> int:
        return int(self._formats[style].get("numFmtId") or 0) if 0 <= style < len(self._formats) else 0

    def _code(self, number: int) -> str:
        formats: Any = self._root.find(f"{self._space}numFmts")
        return next((str(each.get("formatCode")) for each in formats if each.get("numFmtId") == str(number)), "") if formats is not None else ""
