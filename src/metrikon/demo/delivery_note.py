"""A delivery note: it looks much like an invoice, and is none."""

from __future__ import annotations

import io

from reportlab.lib.pagesizes import A4
from reportlab.pdfgen.canvas import Canvas

from metrikon.demo.bills import GARDEN, Bill
from metrikon.demo.wording import printed_quantity


def draw(bill: Bill) -> bytes:
    """The goods of a bill without prices, as PDF bytes."""
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=A4, invariant=1)
    canvas.setTitle(f"Delivery note {bill.number}")
    canvas.setFont("Helvetica-Bold", 16)
    canvas.drawString(56, 780, bill.sender.name)
    canvas.setFont("Helvetica", 9)
    canvas.drawString(56, 765, f"{bill.sender.street}, {bill.sender.place}")
    for offset, words in enumerate(GARDEN):
        canvas.drawString(56, 720 - 12 * offset, words)
    canvas.setFont("Helvetica-Bold", 18)
    canvas.drawString(340, 720, "Delivery Note")
    canvas.setFont("Helvetica", 10)
    for offset, (label, value) in enumerate(
        (("Delivery no.", bill.number), ("Date", bill.date.strftime("%d %B %Y")), ("Your order", bill.order or ""))
    ):
        canvas.drawString(340, 695 - 14 * offset, label)
        canvas.drawRightString(539, 695 - 14 * offset, value)
    y = 610
    canvas.setFont("Helvetica-Bold", 9)
    for x, words in ((56, "Code"), (130, "Description"), (440, "Ordered"), (500, "Sent")):
        canvas.drawString(x, y, words)
    canvas.setFont("Helvetica", 9.5)
    for row in bill.rows:
        y -= 18
        canvas.drawString(56, y, row.part)
        canvas.drawString(130, y, row.text)
        for x in (475, 522):
            canvas.drawRightString(x, y, printed_quantity(row.quantity, "en"))
    canvas.drawString(56, y - 50, "Goods received in good order: ______________________")
    canvas.save()
    return out.getvalue()
