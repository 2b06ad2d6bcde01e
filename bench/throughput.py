"""Documents a second through the whole service."""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys
import time
from pathlib import Path

import httpx

from bench.fixture import QuickModel, Service, invoices
from bench.report import Result, result
from metrikon.demo import scenario

PAIRS = 5


def whole_service(folder: Path, less: int) -> list[Result]:
    """Text PDFs a second against a plain script, with a model that answers at once: the middle one of five pairs.

    The speed of a machine changes within minutes: each pair is measured one after the other, and compared with itself.
    """
    count = 400 // less
    answers = invoices(folder / "source", count)
    plain, ours, model_plain, model_ours = [], [], [], []
    for pair in range(PAIRS):
        model = QuickModel(answers)
        schema = scenario.folder() / "record_types" / "invoice.json"
        command = [sys.executable, "-m", "bench.plain", str(folder / "source"), model.url, str(folder / f"plain-{pair}.db"), str(schema)]
        plain.append(float(subprocess.run(command, check=True, capture_output=True, text=True).stdout))
        model_plain.append(model.seconds)
        model.seconds = 0.0
        ours.append(_service(folder / f"home-{pair}", folder / "source", model.url, count))
        model_ours.append(model.seconds)
        model.stop()
    ratios = [one / two for one, two in zip(plain, ours, strict=True)]
    middle = ratios.index(sorted(ratios)[PAIRS // 2])
    behind = (
        f"{count / ours[middle]:.0f} against {count / plain[middle]:.0f} documents a second, {count} files of one page; all pairs "
        f"{', '.join(f'{each:.2f}' for each in ratios)}; the model's own time {model_ours[middle]:.1f} s and {model_plain[middle]:.1f} s"
    )
    return [result("text PDFs a second, whole service / plain script", ratios[middle], "at least 0.6", lambda r: r >= 0.6, behind)]


def _service(home: Path, source: Path, url: str, count: int) -> float:
    service = Service(home, url)
    try:
        warm = home / "warm"
        invoices(warm, 2)
        for path in sorted(warm.iterdir()):
            service.client.upload(scenario.FLOW, path.read_bytes() + b"\n", name=path.name)
        time.sleep(2)
        copy = home / "incoming"
        shutil.copytree(source, copy)
        before = service.settled()
        for name in ("00000.pdf", "00001.pdf"):
            (copy / name).unlink()
        start = time.perf_counter()
        service.drop(copy)
        service.wait(before + count - 2)
        return (time.perf_counter() - start) * count / (count - 2)
    finally:
        service.stop()


def many_calls(folder: Path, less: int) -> list[Result]:
    """With a model that takes two seconds and 32 calls at once: the rate against the ideal one."""
    count = 640 // less
    answers = invoices(folder / "source", count)
    model = QuickModel(answers, wait=2.0)
    service = Service(folder / "home", model.url, model_calls_at_once="32", workers="48")
    try:
        start = time.perf_counter()
        service.drop(folder / "source")
        service.wait(count)
        took = time.perf_counter() - start
    finally:
        service.stop()
        model.stop()
    ideal = count / 32 * 2.0
    behind = f"{count / took:.1f} of {32 / 2.0:.0f} documents a second; at most {model.most} calls at once"
    return [result("model of 2 s, 32 calls at once: rate / ideal", ideal / took, "at least 0.9", lambda r: r >= 0.9, behind)]


LOOKS = ("/api/today", "/api/items?limit=20", "/api/records?limit=20", "/api/flows/crowd", "/health")
CROWD = """
metrikon: 1
name: crowd
intakes: [{kind: upload}, {kind: folder, path: crowd, settled: 0}]
destinations: {table: {kind: sql, url: "sqlite:///crowd.db", table: rows}}
steps:
  - {name: paper, read: {file: "${item.file}"}}
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {N: "${paper.pages}"}}}
"""


def asked_beside(folder: Path, less: int) -> list[Result]:
    """Ordinary requests while 2,000 files come in at once, against the same at rest."""
    service = Service(folder / "home")
    try:
        service.client.put_flow("crowd", CROWD)
        for number in range(20):
            service.client.upload("crowd", f"a first note {number}".encode(), name=f"{number}.txt")
        time.sleep(2)
        rest = _looked(service, 40 // min(less, 4))
        crowd = folder / "crowd"
        crowd.mkdir()
        for number in range(2000 // less):
            (crowd / f"{number}.txt").write_text(f"a note {number}\n" * 20)
        target = service.home / "crowd"
        target.mkdir(exist_ok=True)
        for path in crowd.iterdir():
            path.rename(target / path.name)
        time.sleep(0.5)
        beside = _looked(service, 40 // min(less, 4))
        moving = sum(1 for _ in service.client.runs(state="ready,running,waiting"))
    finally:
        service.stop()
    behind = f"{beside * 1e3:.0f} ms and {rest * 1e3:.0f} ms in the middle; {moving} runs were still on their way"
    return [result("an ordinary request while 2,000 files come in / at rest", beside / rest, "at most 2", lambda r: r <= 2, behind)]


def _looked(service: Service, rounds: int) -> float:
    """The middle one of how long ordinary requests take (seconds)."""
    took = []
    with httpx.Client(base_url=service.client.url, headers=service.client._http.headers) as http:
        for _ in range(rounds):
            for path in LOOKS:
                start = time.perf_counter()
                http.get(path).raise_for_status()
                took.append(time.perf_counter() - start)
    return statistics.median(took)
