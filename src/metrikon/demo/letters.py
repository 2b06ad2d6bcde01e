"""Applications for a garden post as letters, and price lists of seed houses as pages, once and once again: what the flows that judge are shown with."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape
from io import BytesIO

from metrikon.demo.judged import NAMES, Application, Pair, applications, pairs

HOUSES = ("hartwell-seeds", "kestrel-seed", "moorgate-seed", "zonnehof-bollen")
_WANTED = ("price", "greeting", "form", "notice")  # what becomes of each list
_SEED, _LISTS = 11, 7


def letters() -> Iterator[tuple[str, bytes]]:
    """(name, PDF) of each application; every applicant once."""
    from reportlab.lib.pagesizes import A4
    from reportlab.pdfgen.canvas import Canvas

    for number, each in enumerate(applicants(), 1):
        out = BytesIO()
        sheet = Canvas(out, pagesize=A4, invariant=1)
        sheet.setTitle("Application")
        sheet.setFont("Times-Bold", 15)
        sheet.drawString(70, 770, each.name)
        sheet.setFont("Times-Roman", 11)
        sheet.drawRightString(525, 770, f"{each.name.split()[0].lower()}@mail.example")
        y = 720.0
        for line in each.text.splitlines()[1:]:
            sheet.drawString(70, y, line)
            y -= 22 if line else 12
        sheet.drawString(70, y - 14, each.name)
        sheet.save()
        yield f"{number:02}-{each.name.lower().replace(' ', '-')}.pdf", out.getvalue()


def applicants() -> list[Application]:
    """One application of each name, in the order in which they came."""
    found = {each.name: each for each in reversed(applications(60, _SEED))}
    return [found[name] for name in NAMES if name in found]


def lists() -> Iterator[tuple[str, bytes]]:
    """(name, web page) of each price list, of each house as it was in March and as it is in April."""
    drawn = pairs(60, _LISTS)
    for house, wanted in zip(HOUSES, _WANTED, strict=True):
        pair = next(each for each in drawn if _sort(each) == wanted)
        yield f"{house} 2026-03.html", _page(house, pair.before)
        yield f"{house} 2026-04.html", _page(house, pair.after)


def _sort(pair: Pair) -> str:
    if pair.notice:
        return "notice"
    if pair.outcome == "not material":
        return "greeting"
    if pair.outcome == "same":
        return "form" if pair.after != pair.before and pair.after[0] != pair.before[0] else "same"
    return "price" if len(pair.after) == len(pair.before) else "new"


def _page(house: str, lines: list[str]) -> bytes:
    name = house.replace("-", " ").title()
    lines = [line.replace("Hartwell Seeds", name) for line in lines]
    rows = [line.split("  ", 1) if "EUR" in line.upper() else [line] for line in lines]
    head = "".join(f"<p>{escape(row[0])}</p>\n" for row in rows if len(row) == 1)
    table = "".join(f"<tr><td>{escape(row[0].strip())}</td><td>{escape(row[1].strip())}</td></tr>\n" for row in rows if len(row) == 2)
    body = f"{head}<table>\n<tr><th>Plant</th><th>Price</th></tr>\n{table}</table>\n" if table else head
    return f"<!doctype html>\n<html lang=en><head><title>Price list of {name}</title></head>\n<body><main><h1>{name}</h1>\n{body}</main></body></html>\n".encode()
