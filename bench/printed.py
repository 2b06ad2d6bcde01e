"""More producers of PDFs for the measurements: bills as web pages, printed by a browser and by an office program."""

from __future__ import annotations

import subprocess
import tempfile
from html import escape
from pathlib import Path

from metrikon.demo.bills import Bill
from metrikon.demo.layout import RIGHT_ALIGNED, Layout, footer_lines, meta_pairs, table, title, total_pairs

NARROW = "\u00a0"  # amounts do not break
CHROMIUM = "/usr/bin/chromium"
OFFICE = "soffice"
_BORDER = {
    "boxes": "td,th{border:1px solid #777}",
    "lines": "tr{border-bottom:1px solid #999}",
    "zebra": "tbody tr:nth-child(odd){background:#eee}",
    "none": "",
}


def page(bill: Bill, look: Layout) -> str:
    """The bill as HTML."""
    family = {"sans": "sans-serif", "serif": "serif", "mono": "monospace"}[look.font]
    meta = "".join(f"<tr><td>{escape(name)}</td><td>{escape(value)}</td></tr>" for name, value in meta_pairs(bill, look))
    right = ['style="text-align:right"' if column in RIGHT_ALIGNED else "" for column in look.columns]
    head = "".join(
        f"<th {side or 'style=text-align:left'}>{escape(look.label(column))}</th>" for column, side in zip(look.columns, right, strict=True)
    )
    rows = "".join(
        "<tr>"
        + "".join(f"<td {side}>{escape(text.replace(' ', NARROW) if side else text)}</td>" for text, side in zip(cells, right, strict=True))
        + "</tr>"
        for cells in table(bill, look)
    )
    totals = "".join(f"<tr><td>{escape(name)}</td><td style='text-align:right'>{escape(value)}</td></tr>" for name, value in total_pairs(bill, look))
    footer = "<br>".join(escape(line) for line in footer_lines(bill, look))
    return f"""<!doctype html><meta charset="utf-8"><style>@page{{size:A4;margin:18mm}}body{{font:10.5pt {family}}}table{{border-collapse:collapse}}
    td,th{{padding:2.5pt 5pt;vertical-align:top}}.lines{{width:100%;margin:14pt 0}}{_BORDER[look.ruled].replace("td,", ".lines td,").replace("tr", ".lines tr")}
    </style><h2>{escape(bill.sender.name)}</h2><p>{escape(bill.sender.street)}<br>{escape(bill.sender.place)}</p><h1>{escape(title(bill, look))}</h1>
    <table>{meta}</table><table class="lines" width="100%" cellpadding="4"><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table>
    <br><table style="margin-left:auto" align="right" cellpadding="3">{totals}</table><br clear="all"><p>{footer}</p>"""


def printed(html: str) -> bytes:
    """A page printed to PDF."""
    with tempfile.TemporaryDirectory(prefix="metrikon-print-") as folder:
        source, target = Path(folder) / "page.html", Path(folder) / "page.pdf"
        source.write_text(html, "utf-8")
        command = [CHROMIUM, "--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", f"--user-data-dir={folder}/profile"]
        command += ["--no-pdf-header-footer", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run"]
        subprocess.run([*command, f"--print-to-pdf={target}", source.as_uri()], check=True, capture_output=True, timeout=60)
        return target.read_bytes()


def written(html: str) -> bytes:
    """A page opened as a text by the office program, and exported to PDF."""
    with tempfile.TemporaryDirectory(prefix="metrikon-print-") as folder:
        source = Path(folder) / "page.html"
        source.write_text(html, "utf-8")
        command = [OFFICE, f"-env:UserInstallation=file://{folder}/profile", "--headless", "--infilter=HTML (StarWriter)"]
        command += ["--convert-to", "pdf:writer_pdf_Export", "--outdir", folder, str(source)]
        subprocess.run(command, check=True, capture_output=True, timeout=120)
        return source.with_suffix(".pdf").read_bytes()
