"""Reading against the raw libraries: time, memory, both cores, and inputs that are broken on purpose."""

from __future__ import annotations

import ctypes
import io
import random
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from decimal import Decimal
from pathlib import Path

import pypdfium2 as pdfium
import pypdfium2.raw as raw
from PIL import Image

from bench.fixture import invoices
from bench.report import Result, result
from metrikon.core.documents.text import document_text
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.records.types import record_type
from metrikon.core.values.exact import dumps, loads
from metrikon.demo import scenario
from metrikon.demo.bills import Bill, Row, right_record
from metrikon.demo.garden import FERNHILL
from metrikon.demo.invent import drawn
from metrikon.demo.layout import Layout
from metrikon.demo.strangers import strangers
from metrikon.drivers.paper import LocalPaper
from metrikon.models.pattern import pattern_given
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.registry import picture, read
from tests.helpers import damaged

ASKING = Asking("2026-11-23")
PAIRS = 41  # of what takes milliseconds


WRAPPED = "Aster novi-belgii 'Blaue Nachhut' in pots of two litres, grown without peat"  # takes two lines: 120 rows take six pages


def long_bill(rows: int, article: str = "Aster novi-belgii") -> tuple[bytes, bytes]:
    """An invoice of so many rows as PDF, and its right record as JSON."""
    lines = tuple(Row(f"A-{n:04}", f"{article}, lot {n}", Decimal(n % 9 + 1), "pcs", Decimal("1.10") + n) for n in range(rows))
    bill = Bill(FERNHILL, "B-4711", date(2026, 3, 4), lines, "GBP", Decimal(20), due=date(2026, 4, 3))
    look = Layout()
    return drawn(bill, look), dumps(right_record(bill, look.columns))


def raw_characters(data: bytes) -> int:
    """What the library gives by itself: every character with its box."""
    count = 0
    pdf = pdfium.PdfDocument(data)
    for page in pdf:
        text_page = page.get_textpage()
        left, right, bottom, top = (ctypes.c_double() for _ in range(4))
        for at in range(raw.FPDFText_CountChars(text_page.raw)):
            raw.FPDFText_GetUnicode(text_page.raw, at)
            raw.FPDFText_GetCharBox(text_page.raw, at, left, right, bottom, top)
            count += 1
    pdf.close()
    return count


def words_only(data: bytes) -> int:
    """Words in reading order, and nothing else."""
    from metrikon.core.documents.lines import in_lines
    from metrikon.readers.pdf import _words

    pdf = pdfium.PdfDocument(data)
    count = 0
    for page in pdf:
        ordered, _ = in_lines([word for word, _ in _words(page, page.get_height())])
        count += len(ordered)
    pdf.close()
    return count


def _paired(first: Callable[[], object], second: Callable[[], object], times: int) -> tuple[float, float, float]:
    """Median seconds of two calls, taken in turns, and the median of how the second stands to the first beside it.

    The speed of a machine changes within a run: two calls one after the other see the same of it.
    """
    taken: tuple[list[float], list[float]] = ([], [])
    for _ in range(times):
        for call, seconds in zip((first, second), taken, strict=True):
            start = time.perf_counter()
            call()
            seconds.append(time.perf_counter() - start)
    ratio = statistics.median(two / one for one, two in zip(*taken, strict=True))
    return statistics.median(taken[0]), statistics.median(taken[1]), ratio


def text_pdfs(folder: Path, less: int) -> list[Result]:
    """Text PDFs against the raw library."""
    invoices(folder / "source", 40 // less + 2)
    files = [path.read_bytes() for path in sorted((folder / "source").iterdir())]

    def each(call: Callable[[bytes], object]) -> Callable[[], object]:
        return lambda: [call(data) for data in files]

    found = []
    for name, call, most in (("words in reading order", words_only, 1.5), ("tables and hidden text too", read, 3.0)):
        plain, ours, ratio = _paired(each(raw_characters), each(call), 7)
        behind = f"{ours / len(files) * 1000:.1f} ms against {plain / len(files) * 1000:.1f} ms a page"
        found.append(result(f"text PDFs, {name} / raw characters and boxes", ratio, f"at most {most}", lambda r, m=most: r <= m, behind))  # type: ignore[misc]
    return found


def grounding(folder: Path, less: int) -> list[Result]:
    """Parse, ground and check against the reading of the words; each document is planned and asked about before, as it is in the service."""
    kind = record_type(loads(scenario.invoice_type()), "invoice")
    found = []
    for name, (data, answer) in (("one page", long_bill(9)), ("120 rows over six pages", long_bill(120, WRAPPED))):
        document = read(data)
        header = {name: value for name, value in loads(answer).items() if name != "lines"}  # the rows are cells of the table: no model writes them
        given = [Given("ask", dumps(header).decode(), "model")]
        asked = [LocalPaper(Index(document)) for _ in range(PAIRS)]
        for paper in asked:
            paper.asks(kind, ASKING)
        reading, ours, ratio = _paired(lambda d=data: words_only(d), lambda a=asked, g=given: a.pop().settle(kind, g, ASKING), PAIRS)  # type: ignore[misc]
        behind = f"{ours * 1000:.1f} ms against {reading * 1000:.1f} ms, {len(document.pages)} pages"
        found.append(result(f"parse, ground and check / reading the words, {name}", ratio, "at most 0.5", lambda r: r <= 0.5, behind))
    return found


def without_a_model(folder: Path, less: int) -> list[Result]:
    """A record read by meaning without a model, against the reading of the file with its tables; the record types say nothing of ours."""
    papers = list(strangers(20261126, max(2, 10 // less), "invoice"))
    texts = [(paper.data, record_type(paper.schema, paper.name), Index(read(paper.data))) for paper in papers]

    def reads() -> None:
        for data, _, _ in texts:
            read(data)

    def finds() -> None:
        for _, kind, index in texts:
            pattern_given(kind, Index(index.document))

    finds()  # what a record type means is worked out once, as in the service
    reading, ours, ratio = _paired(reads, finds, 7)
    behind = f"{ours / len(texts) * 1000:.0f} ms against {reading / len(texts) * 1000:.0f} ms a document, {len(texts)} text PDFs"
    return [result("a record without a model / reading words and tables", ratio, "at most 2.5", lambda r: r <= 2.5, behind)]


def ocr(folder: Path, less: int) -> list[Result]:
    """Upright scanned pages a second against the engine by itself, both using the machine as they do."""
    import numpy as np

    from metrikon.readers.ocr import _engine

    page = Image.open(io.BytesIO(picture(scenario.document("02-moorgate-seed.pdf"), 1, 0.0, 110))).convert("RGB")
    out = io.BytesIO()
    page.save(out, "PNG")
    pixels = np.ascontiguousarray(np.asarray(page)[:, :, ::-1])
    plain, ours, ratio = _paired(lambda: _engine()(pixels, return_word_box=True), lambda: read(out.getvalue()), max(3, 5 // less))
    behind = f"{1 / ours:.2f} against {1 / plain:.2f} pages a second"
    return [result("OCR of upright pages, ours / raw engine", 1 / ratio, "at least 0.9", lambda r: r >= 0.9, behind)]


_PEAK = """
import re, sys
from metrikon.readers.registry import read
from metrikon.ports.reader import Limits
read(open(sys.argv[1], "rb").read(), Limits(max_pages=1000))
print(int(re.search(r"VmHWM:\\s+(\\d+)", open("/proc/self/status").read()).group(1)) / 1000)  # getrusage would tell the parent's
"""


def reading_memory(folder: Path, less: int) -> list[Result]:
    """Memory for 300 pages against 30."""
    from pypdf import PdfReader, PdfWriter

    page = PdfReader(io.BytesIO(scenario.document("01-fernhill-nurseries.pdf"))).pages[0]
    peaks = []
    for count in (30, 300):
        writer = PdfWriter()
        for _ in range(count):
            writer.add_page(page)
        path = folder / f"{count}.pdf"
        writer.write(path)
        done = subprocess.run([sys.executable, "-c", _PEAK, str(path)], check=True, capture_output=True, text=True)
        peaks.append(float(done.stdout))
    behind = f"{peaks[1]:.0f} MB against {peaks[0]:.0f} MB at most"
    return [result("memory for 300 pages / for 30", peaks[1] / peaks[0], "at most 1.3", lambda r: r <= 1.3, behind)]


def two_processes(folder: Path, less: int) -> list[Result]:
    """One-page files read by two processes against one."""
    from metrikon.drivers.reading import ReaderPool

    invoices(folder / "source", 1000 // less)
    files = sorted((folder / "source").iterdir())
    rates = []
    for size in (1, 2):
        pool = ReaderPool(size)
        with ThreadPoolExecutor(size) as threads:
            list(threads.map(pool.read_bytes, files[: 4 * size]))
            start = time.perf_counter()
            list(threads.map(pool.read_bytes, files))
            rates.append(len(files) / (time.perf_counter() - start))
        pool.close()
    behind = f"{rates[1]:.0f} against {rates[0]:.0f} files a second"
    return [result("one-page files, two processes / one", rates[1] / rates[0], "at least 1.7", lambda r: r >= 1.7, behind)]


def broken_inputs(folder: Path, less: int) -> list[Result]:
    """Real files damaged at random: each is read or refused in words; the engine of pictures is left out of all but 300."""
    seed = random.SystemRandom().randrange(10**6)
    dice = random.Random(seed)
    files = [path for place in (scenario.post_folder(), scenario.folder() / "documents") for path in sorted(place.iterdir())]
    given = [path.read_bytes() for path in files if not path.name.endswith((".right.json", ".said.json"))]
    wanted, failed, slowest = 20_000 // less, 0, 0.0
    import metrikon.readers.ocr as engine

    whole, engine.read_picture = engine.read_picture, lambda image: ([], 0.0, image.size)
    for number in range(wanted):
        if number == wanted - 300 // less:  # the last of them with the engine itself, on pictures
            engine.read_picture, given = whole, [data for data in given if data.startswith(b"\xff\xd8")]
        data = damaged(given[number % len(given)], dice)
        start = time.perf_counter()
        try:
            document_text(read(data, Limits(max_pages=60)))
        except Refused:
            pass
        except Exception as error:
            failed += 1
            print(f"  {type(error).__name__}: {error}")
        slowest = max(slowest, time.perf_counter() - start)
    behind = f"{failed} of {wanted:,} inputs ended otherwise (seed {seed}); the slowest took {slowest:.2f} s"
    return [result("broken inputs read or refused in words / all", 1 - failed / wanted, "1", lambda r: r == 1, behind)]


__all__ = ["broken_inputs", "grounding", "ocr", "reading_memory", "text_pdfs", "two_processes"]
