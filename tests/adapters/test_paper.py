"""A document put before extraction: a worker process gives what this process would give, and can be lost."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from metrikon.core.documents.model import to_bytes
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given, by_patterns
from metrikon.core.records.types import RecordType
from metrikon.demo import scenario
from metrikon.drivers.paper import LocalPaper, WorkerPaper
from metrikon.drivers.reading import ReaderPool
from metrikon.ports.reader import Limits
from metrikon.ports.step import ReaderDied
from metrikon.readers.registry import read

ASKING = Asking("2026-11-23")
DOCUMENT = read(scenario.document("02-moorgate-seed.pdf"))


@pytest.fixture(scope="module")
def pool() -> Iterator[ReaderPool]:
    made = ReaderPool(1)
    yield made
    made.close()


@pytest.fixture
def paper(pool: ReaderPool, tmp_path: Path) -> WorkerPaper:
    place = tmp_path / "document"
    place.write_bytes(to_bytes(DOCUMENT))
    return WorkerPaper(pool, place, lambda: place.write_bytes(to_bytes(DOCUMENT)))


@pytest.fixture
def local() -> LocalPaper:
    return LocalPaper(Index(DOCUMENT))


def test_the_prompt_is_the_same(paper: WorkerPaper, local: LocalPaper, invoice: RecordType) -> None:
    asking = Asking("2026-11-23", "We are the garden.", 4000, 1)
    assert paper.asks(invoice, asking) == local.asks(invoice, asking)


def test_what_patterns_find_is_the_same(paper: WorkerPaper, local: LocalPaper, invoice: RecordType) -> None:
    ours, theirs = local.patterns(invoice), paper.patterns(invoice)
    assert (theirs.text, theirs.places, theirs.sure) == (ours.text, ours.places, ours.sure)


@pytest.mark.parametrize("spoil", [lambda text: text, lambda text: f"```json\n{text}\n```", lambda text: text[: len(text) * 2 // 3]])
def test_a_reading_is_the_same(paper: WorkerPaper, local: LocalPaper, invoice: RecordType, spoil: object) -> None:
    given = Given("ask", spoil(local.patterns(invoice).text), "big")  # type: ignore[operator]
    assert paper.settle(invoice, [given], ASKING) == local.settle(invoice, [given], ASKING)


def test_an_answer_that_holds_no_json_is_asked_again_with_the_error(paper: WorkerPaper, invoice: RecordType) -> None:
    reading = paper.settle(invoice, [Given("ask", "I could not read it.", "big")], ASKING)
    (ask,) = reading.next
    assert (ask.stage, ask.tries) == ("ask", 1)
    assert "holds no JSON" in ask.messages[-1]["content"]


@pytest.mark.parametrize("left", [b"", b'{"sha256": "00', None])
def test_a_stored_form_that_a_crash_cut_off_is_made_again(left: bytes | None, paper: WorkerPaper, invoice: RecordType) -> None:
    if left is None:
        paper.path.unlink()
    else:
        paper.path.write_bytes(left)
    assert paper.settle(invoice, [Given("ask", '{"number": "x"}', "big")], ASKING).record["number"] == "x"
    assert paper.path.stat().st_size > 1000


def test_an_answer_without_end_is_no_trouble(paper: WorkerPaper, invoice: RecordType) -> None:
    answer = json.dumps({"lines": [{"description": "x" * 50, "amount": n} for n in range(3000)]})
    start = time.monotonic()
    reading = paper.settle(invoice, [by_patterns(answer, {}, {})], ASKING)
    assert len(reading.record["lines"]) == 3000
    assert time.monotonic() - start < 20
    assert paper.settle(invoice, [Given("ask", "[" * 200_000, "big")], ASKING).next


def test_work_that_takes_too_long_ends_with_its_process_and_the_next_goes_on(tmp_path: Path, invoice: RecordType) -> None:
    pool = ReaderPool(1, Limits(seconds=0.01))
    path = tmp_path / "scan.pdf"
    path.write_bytes(scenario.document("05-oakhanger-garden-scan.pdf"))
    try:
        with pytest.raises(ReaderDied, match="seconds"):
            pool.read(path)
        place = tmp_path / "document"
        place.write_bytes(to_bytes(DOCUMENT))
        pool.limits = Limits()
        assert WorkerPaper(pool, place, lambda: None).settle(invoice, [by_patterns("{}", {}, {})], ASKING).record == {}
    finally:
        pool.close()


def test_a_closed_pool_leaves_no_process_behind(tmp_path: Path) -> None:
    pool = ReaderPool(2)
    path = tmp_path / "a.pdf"
    path.write_bytes(scenario.document("01-fernhill-nurseries.pdf"))
    pool.read(path)
    (worker,) = pool._working
    pool.close()
    assert worker.process.poll() is not None
    assert pool._working == set()
