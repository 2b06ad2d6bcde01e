"""A real language model against a plain one-shot prompt with the same model and schema: by hand, not in CI.

    python -m bench.real --model-url http://127.0.0.1:8091/v1 [--model NAME] [--size "1.5 billion parameters, 4 bits"] [--unseen SEED]

Counts right, wrong, missing and invented values on six demo invoices, and tokens; docs/bench-real-model.md is written.
With --unseen, on six invoices made up from that seed and on one of 120 rows; docs/bench-real-model-unseen.md is written.
A wrong value is invented when it stands nowhere in the document, or in another place than it should.
"""

from __future__ import annotations

import argparse
import json
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx

from bench.reading import WRAPPED, long_bill
from metrikon.core.documents.text import document_text
from metrikon.core.extraction.index import Index, squeezed
from metrikon.core.records.findings import stops
from metrikon.core.records.pointers import leaves
from metrikon.core.records.types import RecordType, record_type
from metrikon.core.values.exact import dumps, loads
from metrikon.demo import scenario
from metrikon.demo.invent import invent
from metrikon.drivers.extract import extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.readers.registry import read

NAMES = (
    "01-fernhill-nurseries.pdf",
    "03-larkmead-horticulture.pdf",
    "04-silverbeck-plants-three-pages.pdf",
    "08-tannhof-baumschulen.pdf",
    "14-pepinieres-clairbois.pdf",
    "17-ashbourne-tools.pdf",
)
CONTEXT = "We are the Ellerby Botanic Garden and receive this document; we are never the vendor."
PLAIN = "Extract the data of this invoice as JSON that follows the JSON Schema. Leave out what is not in the document. Answer with JSON only."


@dataclass
class Score:
    """Counts over all values."""

    right: int = 0
    wrong: int = 0
    missing: int = 0
    invented: int = 0
    unattended: int = 0  # wrong values in records that nothing stopped
    tokens_in: int = 0
    tokens_out: int = 0
    seconds: float = 0.0
    notes: list[str] = field(default_factory=list)


def same(one: Any, two: Any) -> bool:
    """Whether two values are the same to a person."""
    numbers = []
    for each in (one, two):
        try:
            numbers.append(Decimal(str(each)))
        except ArithmeticError:
            pass
    if len(numbers) == 2:
        return numbers[0] == numbers[1]
    return squeezed(str(one)) == squeezed(str(two))


def count(score: Score, right: dict[str, Any], got: dict[str, Any], index: Index, stopped: bool) -> None:
    """Set what was got against what is right."""
    wanted, have = dict(leaves(right)), dict(leaves(got))
    for pointer in {**wanted, **have}:
        if pointer not in have or have[pointer] in (None, ""):
            score.missing += wanted.get(pointer) is not None
        elif pointer in wanted and same(wanted[pointer], have[pointer]):
            score.right += 1
        else:
            score.wrong += 1
            score.unattended += not stopped
            score.invented += not index.find_text(str(have[pointer])) or pointer not in wanted
            score.notes.append(f"{pointer}: {str(have[pointer])[:40]!r} for {str(wanted.get(pointer))[:40]!r}")


def plain(url: str, name: str, kind: RecordType, text: str, score: Score) -> dict[str, Any]:
    """One prompt, one answer, taken as it is."""
    body = {
        "model": name,
        "temperature": 0,
        "max_tokens": 4000,
        "messages": [{"role": "user", "content": f"{PLAIN}\n\nJSON Schema:\n{dumps(kind.asked).decode()}\n\nDocument:\n{text}"}],
        "response_format": {"type": "json_schema", "json_schema": {"name": "invoice", "schema": kind.asked}},
    }
    answer = httpx.post(f"{url}/chat/completions", content=dumps(body), headers={"Content-Type": "application/json"}, timeout=1800, trust_env=False)
    if answer.status_code != 200:
        score.notes.append(f"the server answered {answer.status_code}: {answer.text[:150]}")
        return {}
    data = answer.json()
    score.tokens_in += data["usage"]["prompt_tokens"]
    score.tokens_out += data["usage"]["completion_tokens"]
    try:
        found = loads(data["choices"][0]["message"]["content"].strip().removeprefix("```json").removesuffix("```"))
    except ValueError as error:
        score.notes.append(f"its answer is no JSON: {str(error)[:80]}")
        return {}
    return found if isinstance(found, dict) else {}


def demo_cases() -> Iterator[tuple[str, bytes, dict[str, Any]]]:
    """The six demo invoices: name, bytes, right record."""
    return ((each.name, scenario.document(each.name), each.record) for each in scenario.expected() if each.name in NAMES)


def unseen_cases(seed: int) -> Iterator[tuple[str, bytes, dict[str, Any]]]:
    """Six invoices that nobody has looked at, and one of 120 rows."""
    yield from ((each.name, each.data, each.right) for each in invent(seed, 6))
    data, right = long_bill(120, WRAPPED)
    yield "120 rows over six pages", data, loads(right)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--model-url", required=True)
    parser.add_argument("--model", default="model")
    parser.add_argument("--size", default="a small model")
    parser.add_argument("--only", default="")
    parser.add_argument("--skip-plain", action="store_true")
    parser.add_argument(
        "--plain-kept", type=Path, help="JSON file with what the plain prompt came to; made when it is not there, else not asked again"
    )
    parser.add_argument("--unseen", type=int, metavar="SEED", help="invoices made up from this seed instead of those of the demo")
    parser.add_argument("--chances", action="store_true", help="ask for the probabilities of tokens")
    given = parser.parse_args()
    kind = record_type(loads(scenario.invoice_type()), "invoice")
    model = ChatModel(ChatSettings(given.model_url, given.model, timeout=1800, chances=given.chances), "model")
    kept: dict[str, Any] = json.loads(given.plain_kept.read_text("utf-8")) if given.plain_kept and given.plain_kept.exists() else {}
    ours, theirs, rows = Score(), Score(), []
    for name, data, right in demo_cases() if given.unseen is None else unseen_cases(given.unseen):
        if given.only not in name:
            continue
        document = read(data)
        index = Index(document)
        one, two = Score(), Score()
        start = time.perf_counter()
        found = extract(model, kind, LocalPaper(index), "2026-11-23", CONTEXT)
        one.seconds = time.perf_counter() - start
        one.tokens_in, one.tokens_out = found.usage.input_tokens, found.usage.output_tokens
        count(one, right, found.reading.record, index, stops(found.reading.findings))
        if name in kept:
            two = Score(**kept[name])
        elif not given.skip_plain:
            start = time.perf_counter()
            count(two, right, plain(given.model_url, given.model, kind, document_text(document), two), index, False)
            two.seconds = time.perf_counter() - start
            kept[name] = vars(two)
            if given.plain_kept:
                given.plain_kept.write_text(json.dumps(kept), "utf-8")
        for whole, part in ((ours, one), (theirs, two)):
            for counted, value in vars(part).items():
                setattr(whole, counted, getattr(whole, counted) + value)
        rows.append((name, one, two))
        told = [(s.right, s.wrong, s.missing, s.invented, s.tokens_in, s.tokens_out, round(s.seconds)) for s in (one, two)]
        print(name, "ours", told[0], "plain", told[1], flush=True)
        print("   stops:", [f.message[:100] for f in found.reading.findings if f.level == "stop"], flush=True)
        for label, notes in (("ours", one.notes), ("plain", two.notes)):
            print(f"   {label}:", notes[:12], flush=True)
    if not given.only and not given.skip_plain:
        which = (
            "six demo invoices"
            if given.unseen is None
            else f"six invoices made up from the seed {given.unseen} and one of 120 rows, none seen before"
        )
        page = "docs/bench-real-model.md" if given.unseen is None else "docs/bench-real-model-unseen.md"
        Path(page).write_text(_page(given.size, which, rows, ours, theirs), "utf-8")
    print(
        json.dumps({"ours": {k: v for k, v in vars(ours).items() if k != "notes"}, "plain": {k: v for k, v in vars(theirs).items() if k != "notes"}})
    )


def _page(size: str, which: str, rows: list[tuple[str, Score, Score]], ours: Score, theirs: Score) -> str:
    lines = [
        "# A real small model",
        "",
        f"Made by hand with `python -m bench.real` on {date.today().isoformat()}: {size}, on {which}, against one plain prompt with the",
        "same model, the same schema and answers locked to it. *Invented*: it stands nowhere in the document, or is there though nothing should be.",
        "",
        "| invoice | | right | wrong | missing | invented | wrong and unattended | tokens read | written | seconds |",
        "|---|---|---:|---:|---:|---:|---:|---:|---:|---:|",
    ]
    for name, one, two in [*rows, ("all", ours, theirs)]:
        for label, s in (("Metrikon", one), ("plain prompt", two)):
            numbers = f"{s.right} | {s.wrong} | {s.missing} | {s.invented} | {s.unattended} | {s.tokens_in} | {s.tokens_out} | {s.seconds:.0f}"
            lines.append(f"| {name} | {label} | {numbers} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    main()
