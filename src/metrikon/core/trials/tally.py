"""What a trial came to: values right, wrong, missing and invented, by field and over all; how sure they were against how right."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from metrikon.core.trials.score import Score

COUNTS = ("right", "wrong", "missing", "invented")
BINS = 10


@dataclass(frozen=True)
class Tried:
    """One document of a trial: its score, whether the record would go through unattended, how sure each value was, what it cost."""

    name: str
    score: Score
    through: bool = False
    sure: Mapping[str, float] = field(default_factory=dict)  # by JSON Pointer
    tokens: int = 0
    seconds: float = 0.0
    cost: str = "0"
    problem: str = ""  # why it could not be read

    def as_json(self) -> dict[str, Any]:
        """Plain data, from which `tried_from` makes it again."""
        return {
            "name": self.name,
            **{count: getattr(self.score, count) for count in COUNTS},
            "empty": self.score.empty,
            "whole": self.score.whole and not self.problem,
            "through": self.through,
            "tokens": self.tokens,
            "seconds": round(self.seconds, 2),
            "cost": self.cost,
            "problem": self.problem,
            "fields": self.score.by_field,
            "errors": [{"field": e.path, "what": e.what, "right": _plain(e.right), "given": _plain(e.given)} for e in self.score.errors[:200]],
            "sure": [[self.sure[pointer], right] for pointer, right in self.score.pairs if pointer in self.sure],
        }


def _plain(value: Any) -> Any:
    return value if value is None or isinstance(value, bool | str) else str(value)


def report(tried: Iterable[Mapping[str, Any]]) -> dict[str, Any]:
    """The report of a trial from the plain data of its documents.

    `fields`: counts and completeness by field; `reliability`: for each tenth of sureness how many values there were and which share
    of them is right; shares are from 0 to 1, None where nothing counts.
    """
    documents = list(tried)
    fields: dict[str, dict[str, Any]] = {}
    for each in documents:
        for path, counts in each["fields"].items():
            into = fields.setdefault(path, dict.fromkeys(COUNTS, 0))
            for name in COUNTS:
                into[name] += counts[name]
    for counts in fields.values():
        counts["completeness"] = share(counts["right"] + counts["wrong"], counts["right"] + counts["wrong"] + counts["missing"])
    totals = {name: sum(each[name] for each in documents) for name in COUNTS}
    precision = share(totals["right"], totals["right"] + totals["wrong"] + totals["invented"])
    recall = share(totals["right"], totals["right"] + totals["wrong"] + totals["missing"])
    return {
        **totals,
        "documents": len(documents),
        "whole": sum(each["whole"] for each in documents),
        "through": sum(each["through"] for each in documents),
        "through_wrong": sum(each["wrong"] + each["invented"] for each in documents if each["through"]),
        "precision": precision,
        "recall": recall,
        "f1": round(2 * precision * recall / (precision + recall), 4)
        if precision and recall
        else (None if precision is None or recall is None else 0.0),
        "tokens": sum(each["tokens"] for each in documents),
        "seconds": round(sum(each["seconds"] for each in documents), 2),
        "cost": _sum([each["cost"] for each in documents]),
        "unread": sum(bool(each["problem"]) for each in documents),
        "fields": fields,
        "reliability": reliability(pair for each in documents for pair in each["sure"]),
    }


def _sum(costs: Sequence[str]) -> str:
    from decimal import Decimal

    return f"{sum((Decimal(cost) for cost in costs), Decimal(0)).normalize():f}"


def share(part: int, whole: int) -> float | None:
    """A share from 0 to 1; None of nothing."""
    return round(part / whole, 4) if whole else None


def reliability(pairs: Iterable[Sequence[Any]]) -> list[dict[str, Any]]:
    """For each tenth of sureness that occurs: from where to where, how many values, how sure on average, which share is right."""
    bins: dict[int, list[tuple[float, bool]]] = {}
    for sure, right in pairs:
        bins.setdefault(min(BINS - 1, int(sure * BINS)), []).append((float(sure), bool(right)))
    return [
        {
            "low": number / BINS,
            "high": (number + 1) / BINS,
            "values": len(found),
            "sure": round(sum(sure for sure, _ in found) / len(found), 3),
            "right": round(sum(right for _, right in found) / len(found), 3),
        }
        for number, found in sorted(bins.items())
    ]


def differences(one: Iterable[Mapping[str, Any]], two: Iterable[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """What two trials over the same documents made of them differently: by document and field, what each got wrong that the other did not."""
    first = {each["name"]: each for each in one}
    found = []
    for other in two:
        before = first.get(other["name"])
        if before is None:
            continue
        errors = [{(e["field"], e["what"], str(e["right"])): e for e in side["errors"]} for side in (before, other)]
        for mine, theirs, who in ((errors[0], errors[1], "second"), (errors[1], errors[0], "first")):
            for key, error in mine.items():
                if key not in theirs:
                    found.append({"document": other["name"], "better": who, **error})
    return found
