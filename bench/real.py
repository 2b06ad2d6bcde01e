"""A real language model on documents of other hands: ours against one plain prompt with the same model. By hand, not in CI.

    python -m bench.real CASES --model-url URL [--model NAME] [--only PREFIX] [--share 0.33 --seed 7] [--answers DIR] [--out DIR]
                         [--plain | --ours] [--second] [--asked-before] [--size "1.5 billion parameters, 4 bits"] [--write]

CASES holds folders with `doc.*`, `schema.json` and `truth.json`. Every answer is kept in --answers and given again for the same
request, so that a change costs only what it changes. Told by kind: precision, recall, F1, values invented, records wholly right,
those of them that went through unattended, wrong values among all that would be written unattended, tokens and seconds.
--write makes docs/bench-real-model.md. Predictions go to --out, a folder for ours and one for plain.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from statistics import median
from typing import Any

from bench.cases import Case, cases
from metrikon.core.documents.text import document_text
from metrikon.core.extraction.parsing.parse import NotUnderstood, parse_answer
from metrikon.core.extraction.settle import Reading
from metrikon.core.records.checks import doubtful, doubts
from metrikon.core.records.confidence import UNATTENDED
from metrikon.core.records.findings import stops
from metrikon.core.records.types import RecordType
from metrikon.core.trials.score import Score, score_record
from metrikon.core.values.exact import dumps
from metrikon.drivers.extract import extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.models.pattern import PatternModel
from metrikon.ports.model import Model, ModelAnswer, ModelDown, ModelRequest, Usage

PLAIN = "Extract the data of this document as JSON that follows the JSON Schema. Give null for what the document does not say. Answer with JSON only."
TODAY = "2026-11-26"


@dataclass
class Kept:
    """A model whose answers are kept: the same request is asked once."""

    model: Model
    place: Path | None
    asked: int = 0
    fresh: bool = True  # whether it is asked what it was not asked before

    def __post_init__(self) -> None:
        self.name, self.room, self.sees = self.model.name, self.model.room, self.model.sees

    def answer(self, request: ModelRequest) -> ModelAnswer:
        key = hashlib.sha256(dumps([list(map(dict, request.messages)), request.schema])).hexdigest()
        place = self.place / f"{key}.json" if self.place else None
        if place and place.exists():
            kept = json.loads(place.read_text("utf-8"))
            return ModelAnswer(
                kept["text"], Usage(kept["read"], kept["written"], 1, kept["seconds"]), tokens=tuple(map(tuple, kept.get("tokens", ())))
            )
        if not self.fresh:
            raise ModelDown("Nothing new is asked.")
        start = time.perf_counter()
        answer = self.model.answer(request)
        self.asked += 1
        if place:
            place.parent.mkdir(parents=True, exist_ok=True)
            kept = {"text": answer.text, "read": answer.usage.input_tokens, "written": answer.usage.output_tokens}
            place.write_text(json.dumps({**kept, "seconds": time.perf_counter() - start, "tokens": answer.tokens}), "utf-8")
        return answer


@dataclass
class Side:
    """What one way of reading came to on one case."""

    case: Case
    score: Score
    record: Mapping[str, Any]
    through: bool
    usage: Usage
    asked: int = 1

    @property
    def invented(self) -> int:
        """Values given where the document says nothing; values of rows too many are wrong, and not counted here."""
        filled = {f"{name}[]" for name, value in self.case.truth.items() if isinstance(value, list) and value}
        return sum(1 for each in self.score.errors if each.what == "invented" and each.path not in filled)


@dataclass
class Told:
    """Totals over some cases."""

    sides: list[Side] = field(default_factory=list)

    def line(self) -> dict[str, float]:
        right = sum(s.score.right for s in self.sides)
        wrong = sum(s.score.wrong for s in self.sides)
        missing = sum(s.score.missing for s in self.sides)
        invented = sum(s.score.invented for s in self.sides)
        precision, recall = right / max(1, right + wrong + invented), right / max(1, right + wrong + missing)
        whole = [s for s in self.sides if s.score.whole]
        written = [s for s in self.sides if s.through]
        values = sum(s.score.right + s.score.wrong + s.score.invented for s in written)
        return {
            "documents": len(self.sides),
            "precision": precision,
            "recall": recall,
            "f1": 2 * precision * recall / max(1e-9, precision + recall),
            "invented": sum(s.invented for s in self.sides),
            "given": right + wrong + invented,
            "empty": sum(s.score.empty for s in self.sides),
            "whole": len(whole),
            "whole_through": sum(s.through for s in whole),
            "through": len(written),
            "written_wrong": sum(s.score.wrong + s.score.invented for s in written),
            "written": values,
            "read": median([s.usage.input_tokens for s in self.sides] or [0]),
            "tokens": median([s.usage.input_tokens + s.usage.output_tokens for s in self.sides] or [0]),
            "seconds": sum(s.usage.seconds for s in self.sides),
        }


def ours(case: Case, model: Model, second: Model | None = None) -> Side:
    """A case read by us."""
    start = time.perf_counter()
    found = extract(model, case.record_type, LocalPaper(case.index), TODAY, second_reading=second)
    score = score_record(case.record_type, case.truth, found.reading.record, case.rules)
    usage = found.usage if found.usage.seconds else Usage(found.usage.input_tokens, found.usage.output_tokens, 1, time.perf_counter() - start)
    return Side(case, score, found.reading.record, unattended(case.record_type, found.reading), usage, found.asked)


def unattended(kind: RecordType, reading: Reading) -> bool:
    """Whether a flow would write a record without a person, at the least confidence that flows have when they say nothing."""
    return not stops(reading.findings) and not doubtful(kind, reading.record, doubts(kind, reading.evidence), UNATTENDED, set())


def plain(case: Case, model: Model) -> Side:
    """A case read by one plain prompt: text and schema, the answer taken as it is."""
    said = f"{PLAIN}\n\nJSON Schema:\n{dumps(case.record_type.schema).decode()}\n\nDocument:\n{document_text(case.document)}"
    answer = model.answer(ModelRequest([{"role": "user", "content": said}], case.record_type.schema))
    try:
        record = parse_answer(answer.text).value
    except NotUnderstood:
        record = {}
    record = record if isinstance(record, dict) else {}
    return Side(case, score_record(case.record_type, case.truth, record, case.rules), record, False, answer.usage)


def shown(name: str, told: Mapping[str, Told]) -> str:
    """A table by kind."""
    lines = [f"{name:<12} docs   P     R     F1   invented whole through  wrong/written  tokens seconds"]
    for kind, each in told.items():
        t = each.line()
        lines.append(
            f"{kind:<12} {t['documents']:>4.0f} {t['precision']:.3f} {t['recall']:.3f} {t['f1']:.3f} {t['invented']:>4.0f}/{t['empty']:<4.0f} "
            f"{t['whole_through']:>2.0f}/{t['whole']:<3.0f} {t['through']:>4.0f}   {t['written_wrong']:>4.0f}/{t['written']:<6.0f} {t['tokens']:>8.0f} {t['seconds']:>6.0f}"
        )
    return "\n".join(lines)


def by_kind(sides: list[Side]) -> dict[str, Told]:
    """Totals for each kind of document, and over all."""
    found: dict[str, Told] = {}
    for each in sides:
        found.setdefault(each.case.kind, Told()).sides.append(each)
    return {**dict(sorted(found.items())), "all": Told(sides)}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", type=Path)
    parser.add_argument("--model-url", default="", help="without it the pattern reader reads")
    parser.add_argument("--model", default="model")
    parser.add_argument("--size", default="a small model")
    parser.add_argument("--only", default="")
    parser.add_argument("--share", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--answers", type=Path)
    parser.add_argument("--kept", type=Path, help="a folder for documents that were read")
    parser.add_argument("--out", type=Path)
    parser.add_argument("--plain", action="store_true", help="the plain prompt alone")
    parser.add_argument("--ours", action="store_true", help="ours alone")
    parser.add_argument("--asked-before", action="store_true", help="only what was asked before: cases without kept answers are left out")
    parser.add_argument("--second", action="store_true", help="with a second, independent reading")
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--verbose", "-v", action="store_true")
    given = parser.parse_args()
    settings = ChatSettings(given.model_url, given.model, timeout=1800, context=12_288, most_tokens=3000)
    model: Model = PatternModel()
    if given.model_url:
        model = Kept(ChatModel(settings, "model"), given.answers, fresh=not given.asked_before)
    sides: dict[str, list[Side]] = {"ours": [], "plain": []}
    print(f"{'all cases' if given.share == 1 else f'a share of {given.share}, seed {given.seed}'}", flush=True)
    for case in cases(given.cases, given.only, given.share, given.seed, given.kept):
        for name in ("ours", "plain"):
            if (given.plain and name == "ours") or ((given.ours or not given.model_url) and name == "plain"):
                continue
            try:
                side = ours(case, model, model if given.second else None) if name == "ours" else plain(case, model)
            except ModelDown as error:
                if not given.asked_before:
                    raise
                print(f"{case.name:<26} {name:<6} was not asked before ({str(error)[:40]} …)", flush=True)
                continue
            sides[name].append(side)
            if given.out:
                (given.out / name).mkdir(parents=True, exist_ok=True)
                (given.out / name / f"{case.name}.json").write_bytes(dumps(side.record))
            told = side.score
            print(
                f"{case.name:<26} {name:<6} right {told.right:>3} wrong {told.wrong:>2} missing {told.missing:>2} invented {told.invented:>2} "
                f"tokens {side.usage.input_tokens:>5} {side.usage.output_tokens:>5} {side.usage.seconds:>4.0f} s {'through' if side.through else ''}",
                flush=True,
            )
            if given.verbose:
                for each in told.errors:
                    print(f"    {each}", flush=True)
    if given.asked_before and all(sides.values()):  # only what both were asked can be compared
        both = set.intersection(*({each.case.name for each in found} for found in sides.values()))
        sides = {name: [each for each in found if each.case.name in both] for name, found in sides.items()}
    for name, found in sides.items():
        if found:
            print(f"\n{shown(name, by_kind(found))}")
    if given.write:
        Path("docs/bench-real-model.md").write_text(_page(given.size, sides), "utf-8")


def _page(size: str, sides: Mapping[str, list[Side]]) -> str:
    lines = [
        "# A real small model, on documents of other hands",
        "",
        f"Made by hand with `python -m bench.real` on {date.today().isoformat()}: {size}, against one plain prompt with the same model (text, schema,",
        "answers locked to it). *Invented*: given where the document says nothing, of the values that have nothing (in brackets: of all values",
        f"given). *Through*: would be written unattended, at the least confidence that flows have when they say nothing ({UNATTENDED}).",
        "",
        "| kind | | documents | precision | recall | F1 | invented | wholly right | of them through | wrong of all written unattended | tokens (median) |",
        "|---|---|---:|---:|---:|---:|---:|---:|---:|---:|---:|",
    ]
    for name, found in sides.items():
        label = "Metrikon" if name == "ours" else "plain prompt"
        for kind, told in by_kind(found).items():
            t = told.line()
            lines.append(
                f"| {kind.replace('_', ' ')} | {label} | {t['documents']:.0f} | {t['precision']:.3f} | {t['recall']:.3f} | {t['f1']:.3f} | {t['invented']:.0f} of {t['empty']:.0f} ({t['invented'] / max(1, t['given']):.1%}) | "
                f"{t['whole']:.0f} | {t['whole_through']:.0f} | {t['written_wrong']:.0f} of {t['written']:.0f} | {t['tokens']:.0f} |"
            )
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    main()
