"""Kills with -9 at random moments, over flows of all kinds of step."""

from __future__ import annotations

import random
from pathlib import Path

from bench.report import Result, result
from tests.killing import killed
from tests.killing_out import killed_out


def kills(folder: Path, less: int) -> list[Result]:
    """300 kills while 60 items come in: rows that are there once, of those that were to be written."""
    count, items = 300 // less, max(12, 60 // less)
    seed = random.SystemRandom().randrange(10**6)
    ended = killed(folder / "home", seed, count, items)
    right = sum((ended.values & ended.wanted).values()) / max(1, sum((ended.values | ended.wanted).values()))
    behind = f"seed {seed}: {ended.rows} rows, {ended.keys} keys, {ended.unlike} journals unlike"
    return [
        result(f"rows that are there once after {count} kills / rows wanted", right if ended.whole else right * 0.99, "1", lambda r: r == 1, behind)
    ]


def kills_out(folder: Path, less: int) -> list[Result]:
    """300 kills while 100 items go to destinations of all kinds at once."""
    count, items = 300 // less, max(15, 100 // less)
    seed = random.SystemRandom().randrange(10**6)
    found = killed_out(folder / "home", seed, count, items)
    behind = f"seed {seed}: {items} items at {len(found.held)} destinations; {found.asked} waited for a person; {'; '.join(found.wrong[:5])}"
    return [result(f"names that are not at each destination once after {count} kills", len(found.wrong), "0", lambda wrong: wrong == 0, behind)]
