"""What judging takes: tokens against those of extraction, and comparing against reading."""

from __future__ import annotations

import random
import time
from decimal import Decimal
from pathlib import Path
from statistics import median

from bench.report import Result, result
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.judging import tasks
from metrikon.core.judging.differences import values_differ
from metrikon.core.judging.matter import set_out
from metrikon.core.records.types import record_type
from metrikon.core.values.exact import dumps
from metrikon.demo.judged import POST, applications
from metrikon.drivers.paper import LocalPaper
from metrikon.readers.registry import read as reading

ROWS = 10_000
ASKING = Asking("2026-11-27")


def judging(folder: Path, less: int) -> list[Result]:
    """Characters of prompts and answers for a criterion against those for a field of the same documents; comparing rows against reading them."""
    kind = record_type(
        {
            "type": "object",
            "properties": {each.name: {"type": "string", "description": each.about} for each in POST.criteria},
            "required": [each.name for each in POST.criteria],
        },
        "application",
    )
    judged, extracted = [], []
    for each in applications(50 // less, seed=31):
        paper = LocalPaper(Index(set_out(each.text)))
        one, other = tasks.estimate(POST, paper.index, ASKING), paper.estimate(kind, ASKING)
        judged.append(one.prompt + len(dumps(each.answer)))
        extracted.append(other.prompt + len(dumps({name: {"words": words} for name, words in each.words.items()})))
    share = median(a / b for a, b in zip(judged, extracted, strict=True))
    rows = [{"plant": f"Plant {number} of bed {number % 97}", "price": Decimal(number) / 100, "count": number} for number in range(ROWS // less)]
    mixed = [dict(each) for each in rows]
    random.Random(1).shuffle(mixed)
    mixed[7]["price"] = Decimal("77777.77")
    files = [
        ("plant,price,count\n" + "".join(f"{each['plant']},{each['price']:.2f},{each['count']}\n" for each in every)).encode()
        for every in (rows, mixed)
    ]
    start = time.perf_counter()
    for data in files:
        assert len(reading(data).tables) >= 1
    read = time.perf_counter() - start
    compared = []
    for _ in range(3):
        start = time.perf_counter()
        assert len(list(values_differ({"rows": rows}, {"rows": mixed}))) == 1
        compared.append(time.perf_counter() - start)
    return [
        result(
            "judging 50 documents / extracting from them, characters a criterion",
            share,
            "at most 1.5",
            lambda r: r <= 1.5,
            f"{median(judged):.0f} and {median(extracted):.0f} a document",
        ),
        result(
            f"comparing {ROWS // less:,} rows of two records / reading them",
            median(compared) / read,
            "under 2",
            lambda r: r < 2,
            f"{median(compared):.2f} s and {read:.2f} s for two files of such rows",
        ),
    ]
