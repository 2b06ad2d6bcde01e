"""Papers with record types that say nothing of ours: read without a model, and let through or stopped with one that is right or lies once."""

from __future__ import annotations

import random
from collections import Counter

import pytest

from bench.perfect import TODAY, Perfect, at, lie
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.findings import stops
from metrikon.core.records.types import RecordType, record_type
from metrikon.core.trials.score import Score, same, score_record
from metrikon.demo.strangers import KINDS, Paper, strangers
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.pattern import PatternModel
from metrikon.readers.registry import read

COUNT = 6
WANTED = {"invoice": 0.95, "receipt": 0.9, "application": 0.9, "page": 0.85, "call": 0.6}


class Read:
    """A paper with its document, read once."""

    def __init__(self, paper: Paper) -> None:
        self.paper = paper
        self.kind: RecordType = record_type(paper.schema, paper.name)
        self.index = Index(read(paper.data))

    def by(self, model: Perfect | PatternModel, twice: bool = False) -> Extracted:
        return extract(model, self.kind, LocalPaper(self.index), TODAY, second_reading=model if twice else None)


@pytest.fixture(scope="module")
def papers(seed: int) -> list[Read]:
    return [Read(paper) for paper in strangers(seed, COUNT)]


@pytest.mark.parametrize("kind", list(KINDS))
def test_record_types_without_labels_are_read_without_a_model(kind: str, papers: list[Read]) -> None:
    total = Score()
    for each in papers:
        if each.paper.kind == kind:
            score = score_record(each.kind, each.paper.right, each.by(PatternModel()).reading.record)
            total.right += score.right
            total.wrong += score.wrong + score.invented
            total.missing += score.missing
    f1 = 2 * total.right / (2 * total.right + 2 * total.wrong + total.missing)
    assert f1 >= WANTED[kind], f1


def test_what_a_perfect_model_says_goes_through_unchanged(papers: list[Read]) -> None:
    stopped, changed, values = [], [], 0
    for each in papers:
        found = each.by(Perfect(each.paper.right)).reading
        score = score_record(each.kind, each.paper.right, found.record)
        values += score.right
        changed += [f"{each.paper.name}: {error}" for error in score.errors]
        if stops(found.findings):
            stopped.append(f"{each.paper.name}: {[f.message for f in found.findings if f.level == 'stop']}")
    assert len(stopped) * 10 <= len(papers), stopped
    assert len(changed) * 500 <= values, changed


def test_lies_that_can_be_told_from_the_truth_are_stopped(papers: list[Read]) -> None:
    """A yes or no turned cannot be told by one reading: that is what a second one is for."""
    told: Counter[str] = Counter()
    written: Counter[str] = Counter()
    for each in papers:
        for number in range(4):
            one = lie(each.paper.right, each.paper.schema, random.Random(f"{each.paper.name} {number}"))
            if one is None:
                continue
            found = each.by(Perfect(each.paper.right, one.record), twice=True).reading
            told[one.kind] += 1
            got = at(found.record, one.path)
            written[one.kind] += not stops(found.findings) and same(got, one.wrong) and not same(got, at(each.paper.right, one.path))
    assert sum(told.values()) > 60
    assert written["yes/no turned"] == 0, written
    assert sum(written.values()) * 12 <= sum(told.values()), (written, told)
