"""Bills drawn on a canvas, place by place, with ReportLab."""

from __future__ import annotations

import io
from typing import Any

from reportlab.lib.colors import Color
from reportlab.lib.pagesizes import A4
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfgen.canvas import Canvas

from metrikon.demo.bills import GARDEN, Bill
from metrikon.demo.layout import RIGHT_ALIGNED, Layout, footer_lines, meta_pairs, table, title, total_pairs
from metrikon.demo.wording import printed_number

WIDTH, HEIGHT = A4
LEFT, RIGHT, BOTTOM = 56.0, WIDTH - 56.0, 90.0
_FONTS = {
    "sans": ("Helvetica", "Helvetica-Bold"),
    "serif": ("Times-Roman", "Times-Bold"),
    "mono": ("Courier", "Courier-Bold"),
}
_SHARES = {"pos": 6.5, "part": 11, "text": 34, "quantity": 9, "unit": 8, "price": 13, "amount": 13}


class _Sheet:
    """A canvas with a pen: y falls as print goes on."""

    def __init__(self, look: Layout, subject: str) -> None:
        self.out = io.BytesIO()
        self.canvas = Canvas(self.out, pagesize=A4, invariant=1)
        self.canvas.setTitle(subject)
        self.plain, self.bold = _FONTS[look.font]
        self.size = 9.5 if look.font != "mono" else 8.5
        self.y = HEIGHT - 60

    def text(self, x: float, y: float, words: str, *, bold: bool = False, size: float | None = None, to: str = "left") -> None:
        font, given = (self.bold if bold else self.plain), size or self.size
        self.canvas.setFont(font, given)
        draw = {"left": self.canvas.drawString, "right": self.canvas.drawRightString, "centre": self.canvas.drawCentredString}
        draw[to](x, y, words)

    def width(self, words: str, bold: bool = False) -> float:
        return float(pdfmetrics.stringWidth(words, self.bold if bold else self.plain, self.size))


def draw(bill: Bill, look: Layout) -> bytes:
    """The bill as PDF bytes; the same bill and look give the same bytes."""
    sheet = _Sheet(look, f"{bill.kind} {bill.number}")
    _letterhead(sheet, bill, look)
    _addressee(sheet, look)
    _meta(sheet, bill, look)
    _table(sheet, bill, look)
    _totals(sheet, bill, look)
    _closing(sheet, bill, look)
    _footer(sheet, bill, look)
    sheet.canvas.save()
    return sheet.out.getvalue()


def _letterhead(sheet: _Sheet, bill: Bill, look: Layout) -> None:
    x = {"left": LEFT, "right": RIGHT, "centre": WIDTH / 2}[look.head]
    sheet.text(x, sheet.y, bill.sender.name, bold=True, size=17, to=look.head)
    for words in (bill.sender.street, bill.sender.place, bill.sender.site):
        sheet.y -= 13
        sheet.text(x, sheet.y, words, size=8.5, to=look.head)
    sheet.y -= 40


def _addressee(sheet: _Sheet, look: Layout) -> None:
    y = sheet.y
    sheet.text(LEFT, y, look.label("to"), bold=True, size=8)
    for words in GARDEN:
        y -= 12.5
        sheet.text(LEFT, y, words)


def _meta(sheet: _Sheet, bill: Bill, look: Layout) -> None:
    pairs = meta_pairs(bill, look)
    if look.meta == "side":
        y = sheet.y
        sheet.text(330, y + 18, title(bill, look), bold=True, size=15)
        for label, value in pairs:
            sheet.text(330, y - 4, label, size=9)
            sheet.text(RIGHT, y - 4, value, to="right")
            y -= 14
        sheet.y = min(y, sheet.y - 60) - 34
        return
    sheet.y -= 84
    sheet.text(LEFT, sheet.y, title(bill, look), bold=True, size=16)
    sheet.y -= 24
    if look.meta == "lines":
        for label, value in pairs:
            sheet.text(LEFT, sheet.y, f"{label}: {value}")
            sheet.y -= 14
    else:
        step = (RIGHT - LEFT) / max(len(pairs), 3)
        for number, (label, value) in enumerate(pairs):
            sheet.text(LEFT + number * step, sheet.y, label, size=7.5)
            sheet.text(LEFT + number * step, sheet.y - 13, value, bold=True, size=min(sheet.size, 8.6))
        sheet.y -= 30
    sheet.y -= 16


def _edges(look: Layout) -> list[tuple[float, float]]:
    whole = sum(_SHARES[c] for c in look.columns)
    edges, x = [], LEFT
    for column in look.columns:
        wide = (RIGHT - LEFT) * _SHARES[column] / whole
        edges.append((x, x + wide))
        x += wide
    return edges


def _head_row(sheet: _Sheet, look: Layout) -> None:
    for column, (x0, x1) in zip(look.columns, _edges(look), strict=True):
        right = column in RIGHT_ALIGNED
        sheet.text(x1 - 3 if right else x0 + 3, sheet.y, look.label(column), bold=True, size=8.5, to="right" if right else "left")
    if look.ruled != "none":
        sheet.canvas.line(LEFT, sheet.y - 5, RIGHT, sheet.y - 5)
    sheet.y -= 19


def _table(sheet: _Sheet, bill: Bill, look: Layout) -> None:
    _head_row(sheet, look)
    so_far = bill.net - bill.net
    for number, (row, cells) in enumerate(zip(bill.rows, table(bill, look), strict=True)):
        lines = _wrapped(sheet, look, cells)
        if sheet.y - 12 * len(lines) < BOTTOM:
            if look.carried:
                _carried(sheet, look, printed_number(so_far, look.numbers))
            _footer(sheet, bill, look)
            sheet.canvas.showPage()
            sheet.y = HEIGHT - 70
            _head_row(sheet, look)
            if look.carried:
                _carried(sheet, look, printed_number(so_far, look.numbers))
        _row(sheet, look, cells, lines, number)
        so_far += row.amount
    if look.ruled != "none":
        sheet.canvas.line(LEFT, sheet.y + 8, RIGHT, sheet.y + 8)


def _carried(sheet: _Sheet, look: Layout, amount: str) -> None:
    sheet.text(RIGHT - 100, sheet.y, look.label("carried"), to="right")
    sheet.text(RIGHT - 3, sheet.y, amount, to="right")
    sheet.y -= 17


def _wrapped(sheet: _Sheet, look: Layout, cells: list[str]) -> list[str]:
    edges = _edges(look)[look.columns.index("text")]
    lines = [""]
    for word in cells[look.columns.index("text")].split():
        longer = f"{lines[-1]} {word}".strip()
        if sheet.width(longer) > edges[1] - edges[0] - 8 and lines[-1]:
            lines.append(word)
        else:
            lines[-1] = longer
    return lines


def _row(sheet: _Sheet, look: Layout, cells: list[str], lines: list[str], number: int) -> None:
    tall = 12 * len(lines) + 5
    if look.ruled == "zebra" and number % 2 == 0:
        sheet.canvas.setFillColor(Color(0.93, 0.95, 0.93))
        sheet.canvas.rect(LEFT, sheet.y - tall + 13, RIGHT - LEFT, tall, stroke=0, fill=1)
        sheet.canvas.setFillColor(Color(0, 0, 0))
    for column, words, (x0, x1) in zip(look.columns, cells, _edges(look), strict=True):
        if column == "text":
            for offset, line in enumerate(lines):
                sheet.text(x0 + 3, sheet.y - 12 * offset, line)
        elif column in RIGHT_ALIGNED:
            sheet.text(x1 - 3, sheet.y, words, to="right")
        else:
            sheet.text(x0 + 3, sheet.y, words)
        if look.ruled == "boxes":
            sheet.canvas.rect(x0, sheet.y - tall + 13, x1 - x0, tall, stroke=1, fill=0)
    sheet.y -= tall


def _totals(sheet: _Sheet, bill: Bill, look: Layout) -> None:
    if sheet.y < BOTTOM + 70:
        _footer(sheet, bill, look)
        sheet.canvas.showPage()
        sheet.y = HEIGHT - 90
    sheet.y -= 12
    for number, (label, value) in enumerate(total_pairs(bill, look)):
        last = number == 2
        if look.totals == "table":
            sheet.text(LEFT + 3, sheet.y, label, bold=last)
        else:
            sheet.text(RIGHT - 110, sheet.y, label, bold=last, to="right")
        sheet.text(RIGHT - 3, sheet.y, value, bold=last, to="right")
        sheet.y -= 16


def _closing(sheet: _Sheet, bill: Bill, look: Layout) -> None:
    sheet.y -= 22
    for words in (*bill.notes, look.label("thanks")):
        sheet.text(LEFT, sheet.y, words, size=8.5)
        sheet.y -= 12


def _footer(sheet: _Sheet, bill: Bill, look: Layout) -> None:
    y: Any = 46
    for words in footer_lines(bill, look):
        sheet.text(WIDTH / 2, y, words, size=7, to="centre")
        y -= 10
