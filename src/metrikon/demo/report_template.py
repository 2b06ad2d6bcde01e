"""The template of the month's report, as somebody of the garden made it in an office program."""

from __future__ import annotations

import io
from datetime import UTC, datetime

from metrikon.demo.mixed_papers import fixed

NAME = "month-report.docx"


def template() -> bytes:
    """The template; the same bytes every time."""
    from docx import Document
    from docx.shared import Pt

    made = Document()
    made.core_properties.created = made.core_properties.modified = datetime(2026, 3, 1, 8, tzinfo=UTC)
    made.sections[0].header.paragraphs[0].text = "Ellerby Botanic Garden"
    made.add_heading("Report of the month", 1)
    line = made.add_paragraph("From ")
    for part in ("${", "first", "} to ${last}. "):  # as an office program parts what was typed in pieces
        line.add_run(part)
    line.add_run("${prose}")
    table = made.add_table(rows=2, cols=4)
    table.style = "Light Grid Accent 1"
    for cell, text in zip(table.rows[0].cells, ("Supplier", "Lines", "Sum", "Currency"), strict=True):
        cell.text = text
    for cell, text in zip(
        table.rows[1].cells, ("${supplier.Vendor}", "${supplier.count}", "${decimal(supplier.Amount, 2)}", "${supplier.Currency}"), strict=True
    ):
        cell.text = text
    made.add_paragraph()
    made.add_paragraph("${drawing}")
    made.add_paragraph("Amounts are those of the invoice lines in the ledger, before tax.").runs[0].font.size = Pt(9)
    out = io.BytesIO()
    made.save(out)
    return fixed(out.getvalue())
