"""The plain script that a builder would write by hand: same PDF library, words with boxes, same HTTP call, straight insert."""

from __future__ import annotations

import ctypes
import json
import re
import sqlite3
import sys
import time
from pathlib import Path

import httpx
import pypdfium2 as pdfium
import pypdfium2.raw as raw

WORD = re.compile(r"\S+")


def words(data: bytes) -> list[tuple[str, float, float, float, float]]:
    found = []
    pdf = pdfium.PdfDocument(data)
    for page in pdf:
        text_page = page.get_textpage()
        text = text_page.get_text_range()
        for match in WORD.finditer(text):
            boxes = []
            for at in range(*match.span()):
                left, right, bottom, top = (ctypes.c_double() for _ in range(4))
                raw.FPDFText_GetCharBox(text_page.raw, at, left, right, bottom, top)
                boxes.append((left.value, bottom.value, right.value, top.value))
            x0, y0, x1, y1 = zip(*boxes, strict=True)
            found.append((match.group(), min(x0), min(y0), max(x1), max(y1)))
    pdf.close()
    return found


def main(folder: Path, url: str, database: Path, schema: Path) -> None:
    connection = sqlite3.connect(database)
    connection.execute("CREATE TABLE lines (vendor, number, line, description, amount)")
    form = {"type": "json_schema", "json_schema": {"name": "record", "schema": json.loads(schema.read_text("utf-8"))}}
    start = time.perf_counter()
    with httpx.Client(timeout=60, trust_env=False) as http:
        for path in sorted(folder.glob("*.pdf")):
            text = " ".join(word[0] for word in words(path.read_bytes()))
            prompt = f"Read this invoice.\n<document>\n{text}\n</document>"
            body = {"model": "bench", "messages": [{"role": "user", "content": prompt}], "response_format": form}
            answer = http.post(f"{url}/chat/completions", json=body).json()
            record = json.loads(answer["choices"][0]["message"]["content"])
            for number, line in enumerate(record["lines"], 1):
                connection.execute(
                    "INSERT INTO lines VALUES (?, ?, ?, ?, ?)", (record["vendor"], record["number"], number, line["description"], line["amount"])
                )
            connection.commit()
    print(time.perf_counter() - start)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2], Path(sys.argv[3]), Path(sys.argv[4]))
