"""How right reading is, on pages that nobody has seen: drawn with a fresh seed by three producers, scanned, spoilt."""

from __future__ import annotations

import difflib
import io
import random
import shutil
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

from PIL import Image, ImageEnhance, ImageFilter

from bench.printed import OFFICE, page, printed, written
from bench.report import Result, note, result
from metrikon.core.documents.model import Document, Table
from metrikon.demo.ageing import scanned
from metrikon.demo.bills import Bill
from metrikon.demo.invent import drawn, invent
from metrikon.demo.layout import Layout, table
from metrikon.ports.reader import Refused
from metrikon.readers.registry import picture, read
from metrikon.readers.usable import verdict

PRODUCERS: dict[str, Callable[[Bill, Layout], bytes]] = {
    "PDF library": lambda bill, look: drawn(bill, replace(look, producer="canvas")),
    "typesetter": lambda bill, look: drawn(bill, replace(look, producer="typst")),
    "browser print": lambda bill, look: printed(page(bill, look)),
    "office program": lambda bill, look: written(page(bill, look)),
}


def _unseen(seed: int, count: int) -> Iterator[tuple[Bill, Layout]]:
    return ((each.bill, each.look) for each in invent(seed, count))


def _best_table(document: Document, columns: int) -> Table | None:
    return max(
        (t for t in document.tables if len(t.header) == columns),
        key=lambda t: len(t.rows),
        default=max(document.tables, key=lambda t: len(t.rows), default=None),
    )


def _cells(found: Table | None, wanted: list[list[str]]) -> tuple[int, int]:
    """(cells that are right, cells wanted); rows are matched in order."""
    total = sum(len(row) for row in wanted)
    if found is None:
        return 0, total
    rows = [["".join(cell.text.split()) for cell in row] for row in found.rows]
    right = 0
    for number, row in enumerate(wanted):
        have = rows[number] if number < len(rows) else []
        right += sum("".join(text.split()) == (have[n] if n < len(have) else None) for n, text in enumerate(row))
    return right, total


def tables(folder: Path, less: int) -> list[Result]:
    """Cells of tables, and tables joined over pages, of three producers."""
    seed = random.SystemRandom().randrange(10**6)
    found, joined, long = [], 0, 0
    for name, make in PRODUCERS.items():
        if name == "office program" and not shutil.which(OFFICE):
            print(f"  {name}: left out, because {OFFICE} is not installed (apt-get install libreoffice-writer-nogui)")
            continue
        right = total = 0
        for bill, look in _unseen(seed, 30 // less + 2):
            wanted = list(table(bill, look))
            document = read(make(bill, look))
            best = _best_table(document, len(look.columns))
            good, all_of_them = _cells(best, wanted)
            right, total = right + good, total + all_of_them
            note(f"cells, {name}", f"{bill.number}, {len(wanted)} rows of {len(look.columns)}, {look.language}", good / all_of_them)
            if len(document.pages) > 1 and len(wanted) >= 40:
                long += 1
                joined += best is not None and len(best.rows) == len(wanted) and len(best.pages) > 1
        found.append(
            result(f"table cells right, {name}", right / total, "at least 0.97", lambda r: r >= 0.97, f"{right} of {total} cells, seed {seed}")
        )
    found.append(
        result(
            "tables joined over pages", joined / max(long, 1), "1", lambda r: r == 1, f"{joined} of {long} tables of 40 rows and more, seed {seed}"
        )
    )
    return found


def _letters(document: Document) -> str:
    return "".join(word.text for page in document.pages[:1] for word in page.words)


def _alike(wanted: str, got: str) -> float:
    """The share of characters that agree, in order."""
    same = sum(block.size for block in difflib.SequenceMatcher(None, wanted, got, autojunk=False).get_matching_blocks())
    return 2 * same / (len(wanted) + len(got)) if wanted or got else 1.0


def scans(folder: Path, less: int) -> list[Result]:
    """Characters of scanned pages, slightly turned and noisy."""
    seed = random.SystemRandom().randrange(10**6)
    dice = random.Random(seed)
    shares = []
    for bill, look in _unseen(seed, max(2, 12 // less)):
        data = drawn(replace(bill, rows=bill.rows[:9]), look)
        scan = scanned(data, turned=round(dice.uniform(-2.5, 2.5), 1), seed=dice.randrange(999))
        shares.append(_alike(_letters(read(data)), _letters(read(scan))))
        note("characters, scan", f"{bill.number}, {look.language}, {look.font}", shares[-1])
    mean = sum(shares) / len(shares)
    return [
        result(
            "characters of scans right", mean, "at least 0.98", lambda r: r >= 0.98, f"{len(shares)} pages, the worst {min(shares):.3f}, seed {seed}"
        )
    ]


def verdicts(folder: Path, less: int) -> list[Result]:
    """The judgement of spoilt pictures against how well they are then read."""
    seed = random.SystemRandom().randrange(10**6)
    dice = random.Random(seed)
    right, told = 0, []
    count = max(6, 36 // less)
    for bill, look in _unseen(seed, count):
        data = drawn(replace(bill, rows=bill.rows[:6]), look)
        shot = Image.open(io.BytesIO(picture(data, 1, 0.0, 110))).convert("RGB")
        spoilt, how = _spoilt(shot, dice)
        usable = verdict(spoilt).usable
        share = _read_anyway(spoilt, _letters(read(data)))
        fits = share >= 0.95 if usable == "good" else share < 0.98 if usable == "unusable" else True
        right += fits
        told.append(f"{how}: {usable}, {share:.2f}" if not fits else "")
    wrong = "; ".join(each for each in told if each)
    behind = f"{right} of {count} pictures: a good one is read to 0.95, an unusable one is not; seed {seed}" + (f"; not so: {wrong}" if wrong else "")
    return [result("judgement of pictures borne out by reading", right / count, "at least 0.9", lambda r: r >= 0.9, behind)]


def _spoilt(shot: Image.Image, dice: random.Random) -> tuple[Image.Image, str]:
    kind = dice.choice(("blur", "contrast", "small", "dark", "none"))
    if kind == "blur":
        amount = dice.uniform(0.5, 4)
        return shot.filter(ImageFilter.GaussianBlur(amount)), f"blur {amount:.1f}"
    if kind == "contrast":
        amount = dice.choice((0.02, 0.04, 0.1, 0.3, 0.6))
        return ImageEnhance.Contrast(shot).enhance(amount), f"contrast {amount}"
    if kind == "small":
        wide = dice.randrange(150, 900)
        return shot.resize((wide, shot.height * wide // shot.width), Image.Resampling.LANCZOS), f"width {wide}"
    if kind == "dark":
        amount = dice.choice((0.02, 0.1, 0.3, 0.6))
        return ImageEnhance.Brightness(shot).enhance(amount), f"brightness {amount}"
    return shot, "as it is"


def _read_anyway(image: Image.Image, wanted: str) -> float:
    from metrikon.core.documents.lines import in_lines
    from metrikon.readers.ocr import read_picture

    try:
        words, _, _ = read_picture(image)
    except Refused:
        return 0.0
    ordered, _ = in_lines(words)
    return _alike(wanted, "".join(word.text for word in ordered))
