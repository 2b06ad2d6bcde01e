"""`make bench`: run every measurement and write docs/bench.md with a plot. `python -m bench NAME …` runs some of them."""

from __future__ import annotations

import argparse
import os
import platform
import sys
import tempfile
from pathlib import Path

from bench import accuracy, coming, going, growth, judging, kills, language, misbehaving, reading, screens, throughput, urgent
from bench.report import Result, write

ALL = {
    "whole service": throughput.whole_service,
    "many calls": throughput.many_calls,
    "asked beside": throughput.asked_beside,
    "many runs": growth.many_runs,
    "memory": growth.memory,
    "expressions": language.expressions,
    "decision tables": language.decision_tables,
    "long lists": language.long_lists,
    "journal": language.journal_steps,
    "many waiting": language.many_waiting,
    "kills": kills.kills,
    "kills out": kills.kills_out,
    "one urgent": urgent.one_urgent,
    "mails": coming.mails_taken,
    "posts": coming.posts_accepted,
    "preview": coming.preview_memory,
    "rows out": going.rows_out,
    "workbooks": going.workbooks,
    "screens": screens.screens,
    "text PDFs": reading.text_pdfs,
    "grounding": reading.grounding,
    "without a model": reading.without_a_model,
    "OCR": reading.ocr,
    "reading memory": reading.reading_memory,
    "two processes": reading.two_processes,
    "broken inputs": reading.broken_inputs,
    "tables": accuracy.tables,
    "scans": accuracy.scans,
    "judgement": accuracy.verdicts,
    "judging": judging.judging,
    "misbehaviour": misbehaving.misbehaviour,
}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", metavar="NAME", help=f"any of: {', '.join(ALL)}")
    parser.add_argument("--small", action="store_true", help="a tenth of the work, to see that it runs")
    given = parser.parse_args()
    chosen = given.names or list(ALL)
    results: list[Result] = []
    for name in chosen:
        print(f"{name} …", flush=True)
        with tempfile.TemporaryDirectory(prefix="metrikon-bench-") as folder:
            results += ALL[name](Path(folder), 10 if given.small else 1)
        for result in results[-4:]:
            print(f"  {result.name}: {result.shown} (wanted {result.wanted})", flush=True)
    if not given.small and not given.names:
        where = f"{os.cpu_count()} cores, Python {platform.python_version()}, {platform.system()} {platform.machine()}"
        write(Path("docs"), results, where)
    return 0 if all(result.good for result in results) else 1


if __name__ == "__main__":
    sys.exit(main())
