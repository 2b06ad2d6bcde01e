"""A model that misbehaves in every way at once: what would be written unattended."""

from __future__ import annotations

import random
from pathlib import Path

from bench.report import Result, result
from metrikon.core.records.types import record_type
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from tests.misbehaving import outcomes


def misbehaviour(folder: Path, less: int) -> list[Result]:
    """All misbehaviours at a rate of 30 %, over the demo's documents."""
    seed = random.SystemRandom().randrange(10**6)
    kind = record_type(loads(scenario.invoice_type()), "invoice")
    found = list(outcomes(kind, max(2, 20 // less), 0.3, seed))
    wrong = sum(1 for each in found if each.unattended and each.wrong)
    clean = [each for each in found if each.clean]
    written = sum(each.unattended for each in clean)
    behind = f"{wrong} of {len(found)} records had a wrong value and would be written, seed {seed}"
    also = f"{written} of {len(clean)} clean digital records would be written unattended, seed {seed}"
    return [
        result("misbehaving model: records with a wrong value written unattended / all", wrong / len(found), "0", lambda r: r == 0, behind),
        result("misbehaving model: clean digital records written unattended / all", written / len(clean), "at least 0.6", lambda r: r >= 0.6, also),
    ]
