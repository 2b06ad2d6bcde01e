"""Bills set by a typesetter: flowing text and real tables, with Typst."""

from __future__ import annotations

import json
import os
import tempfile
from pathlib import Path

import reportlab
import typst

from metrikon.demo.bills import GARDEN, Bill
from metrikon.demo.layout import RIGHT_ALIGNED, Layout, footer_lines, meta_pairs, table, title, total_pairs

_FONTS = {"sans": "Bitstream Vera Sans", "serif": "Libertinus Serif", "mono": "DejaVu Sans Mono"}
_WIDTHS = {"pos": "auto", "part": "auto", "text": "1fr", "quantity": "auto", "unit": "auto", "price": "auto", "amount": "auto"}

# every text comes in as data and is set with #text, so that no mark in it is taken for markup
_SOURCE = """
#let d = json("bill.json")
#set document(date: none, title: d.subject)
#set page(paper: "a4", margin: (x: 18mm, top: 18mm, bottom: 26mm), footer: align(center, text(7pt, d.footer.map(l => [#l]).join(linebreak()))))
#set text(font: d.font, size: d.size * 1pt, lang: d.language)
#let side = (left: left, right: right, centre: center).at(d.head)
#align(side)[#text(18pt, weight: "bold", d.sender) \\ #text(8.5pt)[#d.street \\ #d.place \\ #d.site]]
#v(10mm)
#let meta-side = grid(columns: (auto, auto), column-gutter: 6mm, row-gutter: 2.2mm, ..d.meta.map(p => (text(p.at(0)), text(weight: "medium", p.at(1)))).flatten())
#let whom = [#text(8pt, weight: "bold", d.to) \\ #d.garden.map(l => [#l]).join(linebreak())]
#if d.place_of_meta == "side" [
  #grid(columns: (1fr, auto), whom, [#text(15pt, weight: "bold", d.title) #v(2mm) #meta-side])
] else [
  #whom
  #v(6mm)
  #text(16pt, weight: "bold", d.title)
  #v(2mm)
  #if d.place_of_meta == "lines" [#d.meta.map(p => [#p.at(0): #p.at(1)]).join(linebreak())] else [
    #table(columns: d.meta.len() * (1fr,), stroke: 0.4pt, inset: 4pt, ..d.meta.map(p => text(7.5pt, p.at(0))), ..d.meta.map(p => text(8.5pt, p.at(1))))]
]
#v(8mm)
#let lines = (lines: (x, y) => (bottom: 0.4pt), boxes: 0.5pt, "zebra": none, "none": none).at(d.ruled)
#table(
  columns: d.widths.map(w => if w == "auto" { auto } else { 1fr }), stroke: lines, inset: (x: 5pt, y: 4.2pt),
  align: (x, y) => (if d.right.at(x) { right } else { left }) + top,
  fill: (x, y) => if d.ruled == "zebra" and calc.odd(y) { luma(238) } else { none },
  table.header(..d.heads.map(h => text(weight: "bold", h))), ..d.rows.flatten().map(c => text(c)))
#v(4mm)
#align(right, block(breakable: false, grid(columns: (auto, auto), column-gutter: 9mm, row-gutter: 2.6mm, align: (left, right),
  ..d.totals.enumerate().map(((n, p)) => (text(weight: if n == 2 {"bold"} else {"regular"}, p.at(0)), text(weight: if n == 2 {"bold"} else {"regular"}, p.at(1)))).flatten())))
#v(8mm)
#text(8.5pt)[#d.notes.map(l => [#l]).join(linebreak())]
"""


def draw(bill: Bill, look: Layout) -> bytes:
    """The bill as PDF bytes; the same bill and look give the same bytes."""
    data = {
        "subject": f"{bill.kind} {bill.number}",
        "font": _FONTS[look.font],
        "size": 8.6 if look.font == "mono" else 9.5,
        "language": look.language,
        "head": look.head,
        "sender": bill.sender.name,
        "street": bill.sender.street,
        "place": bill.sender.place,
        "site": bill.sender.site,
        "garden": GARDEN,
        "to": look.label("to"),
        "title": title(bill, look),
        "meta": meta_pairs(bill, look),
        "place_of_meta": look.meta,
        "heads": [look.label(c) for c in look.columns],
        "widths": [_WIDTHS[c] for c in look.columns],
        "right": [c in RIGHT_ALIGNED for c in look.columns],
        "rows": list(table(bill, look)),
        "ruled": look.ruled,
        "totals": total_pairs(bill, look),
        "footer": footer_lines(bill, look),
        "notes": [*bill.notes, look.label("thanks")],
    }
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "bill.json").write_text(json.dumps(data), "utf-8")
        source = Path(folder, "bill.typ")
        source.write_text(_SOURCE, "utf-8")
        fonts = os.path.join(os.path.dirname(reportlab.__file__), "fonts")
        return bytes(typst.compile(str(source), font_paths=[fonts], ignore_system_fonts=True))
