"""`metrikon trial`: how well a record type and a model read documents whose right records are known."""

from __future__ import annotations

import argparse
import hashlib
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.models import Models, models_of
from metrikon.app.reading import limits_of
from metrikon.cli.common import CommandFailed, client, print_json, reaching, settings_from, table
from metrikon.cli.documents import record_type_in
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.trials.tally import differences, report
from metrikon.core.values.exact import NotJson
from metrikon.drivers.paper import LocalPaper
from metrikon.drivers.reading import ReaderPool
from metrikon.drivers.trial import Kept, Sample, Way, run_trial, samples_in
from metrikon.ports.model import ModelDown, OverLimit, Usage
from metrikon.ports.paper import Paper
from metrikon.ports.reader import Refused

SHOWN = 40  # differences shown to people; --json has them all


def add(commands: Any) -> None:
    """Add the command."""
    trial = commands.add_parser(
        "trial",
        help="try a record type on documents whose right records are known",
        description="Reads every document of a folder that has its right record beside it (bill.pdf and bill.pdf.right.json), and says by field what "
        "is right, wrong, missing and invented, how sure the values were, and what it cost. With --against, two ways side by side. "
        "With --reviewed, over the records of a service that a person has approved. What was tried is kept in --keep and not paid twice.",
    )
    trial.add_argument("folder", nargs="?", type=Path, help="documents with their right records")
    trial.add_argument(
        "--record-type", metavar="SCHEMA.json", help="a JSON Schema (2020-12); with --reviewed the name of a record type of the service"
    )
    trial.add_argument("--reviewed", action="store_true", help="over approved records of the service instead of a folder")
    trial.add_argument("--model-url", metavar="URL", help="base URL of a chat-completions server; without one the pattern reader reads")
    trial.add_argument("--model", metavar="NAME", help="the model that reads")
    trial.add_argument("--against", metavar="NAME", help="a second model to set beside it (pattern: the reader without a language model)")
    trial.add_argument("--against-type", type=Path, metavar="SCHEMA.json", help="another version of the record type to set beside it")
    trial.add_argument("--second-reading", action="store_true", help="yes/no and options are read twice")
    trial.add_argument("--context", default="", help="what the model should know besides")
    trial.add_argument("--keep", type=Path, metavar="DIR", help="where results are kept; a trial that was stopped goes on from there")
    trial.add_argument("--most", type=int, default=0, metavar="N", help="at most so many documents")
    reaching(trial)
    trial.set_defaults(run=run)


def run(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Run a trial and show what it came to."""
    if given.reviewed:
        return _reviewed(given, out, err)
    if given.folder is None or not given.record_type:
        raise CommandFailed("Name a folder of documents with their right records, and --record-type; or use --reviewed.", 2)
    settings = settings_from(model_url=given.model_url, model_name=given.model)
    models = models_of(settings)
    pool = ReaderPool(1, limits_of(settings))
    try:
        first = _way(models, models.default if given.model_url or not given.model else given.model, record_type_in(Path(given.record_type)), given)
        ways = [first]
        if given.against or given.against_type:
            kind = record_type_in(given.against_type) if given.against_type else first.kind
            ways.append(_way(models, given.against or first.model.name, kind, given))
        found = [_tried(given, way, pool, err) for way in ways]
    finally:
        pool.close()
        models.close()
    _told(found, [way.model.name for way in ways], given, out)
    return 0


def _way(models: Models, name: str, kind: Any, given: argparse.Namespace) -> Way:
    if name not in models.by_name:
        raise CommandFailed(f"There is no model {name!r}. Known: {', '.join(models.by_name)}.", 2)
    spec = models.specs.get(name)

    def price(usage: Usage) -> str:
        return f"{spec.price(usage.input_tokens, usage.output_tokens):f}" if spec else "0"

    model = models.by_name[name]
    return Way(kind, model, given.context, model if given.second_reading else None, price)


def _tried(given: argparse.Namespace, way: Way, pool: ReaderPool, err: TextIO) -> list[dict[str, Any]]:
    try:
        pairs = list(samples_in(given.folder))
    except (OSError, NotJson) as error:
        raise CommandFailed(f"A right record in {given.folder} cannot be read: {error}", 2) from error
    if not pairs:
        raise CommandFailed(f"There is no document with a right record in {given.folder}. Put bill.pdf.right.json beside bill.pdf.", 2)
    paths: dict[str, Path] = {}
    samples = []
    for path, right in pairs[: given.most or None]:
        sha256 = hashlib.sha256(path.read_bytes()).hexdigest()
        paths[sha256] = path
        samples.append(Sample(path.name, sha256, right))

    def paper(sample: Sample) -> Paper:
        return LocalPaper(Index(pool.read(paths[sample.sha256])))

    done: list[dict[str, Any]] = []
    try:
        for each in run_trial(samples, way, paper, date.today().isoformat(), Kept(given.keep)):
            done.append(each)
            state = each["problem"] or f"{each['right']} right, {each['wrong']} wrong, {each['missing']} missing, {each['invented']} invented"
            print(f"{len(done)} of {len(samples)}, {way.model.name}: {each['name']}: {state}", file=err, flush=True)
    except KeyboardInterrupt:
        print("\nStopped. Start it again with the same --keep to go on." if given.keep else "\nStopped.", file=err)
    except (ModelDown, OverLimit, Refused) as error:
        raise CommandFailed(f"{error} {len(done)} of {len(samples)} documents were tried; start it again with --keep to go on.") from error
    return done


def _reviewed(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    if not given.record_type:
        raise CommandFailed("Name the record type whose reviewed records are tried: --record-type NAME.", 2)
    with client(given) as service:
        found, names = [], []
        for model in [given.model or "", *([given.against] if given.against else [])]:
            for state in service.trial(given.record_type, model=model, context=given.context, most=given.most):
                print(f"{state['done']} of {state['count']}, {state['model']}", file=err, flush=True)
            found.append(state["documents"])
            names.append(state["model"])
    _told(found, names, given, out)
    return 0


def _told(found: Sequence[list[dict[str, Any]]], names: Sequence[str], given: argparse.Namespace, out: TextIO) -> None:
    reports = [report(each) for each in found]
    apart = differences(found[0], found[1]) if len(found) > 1 else []
    if given.json:
        print_json(
            {
                "trials": [{"model": name, **each, "by_document": docs} for name, each, docs in zip(names, reports, found, strict=True)],
                "differences": apart,
            },
            out,
        )
        return
    for name, each in zip(names, reports, strict=True):
        _show(name, each, out)
    if len(found) > 1:
        print(f"\nWhere {names[0]} (first) and {names[1]} (second) differ", file=out)
        rows = [
            [each["document"], each["field"], each["what"], _short(each["given"]), _short(each["right"]), each["better"]] for each in apart[:SHOWN]
        ]
        table(rows, ["document", "field", "what", "given", "right", "better"], out) if rows else print("Nowhere.", file=out)
        if len(apart) > SHOWN:
            print(f"… {len(apart) - SHOWN} more; --json prints them all", file=out)


def _show(name: str, told: Mapping[str, Any], out: TextIO) -> None:
    print(f"\nRead by {name}: {told['documents']} documents, {told['whole']} wholly right, {told['through']} would go through unattended", file=out)
    rows = [
        [path, *(str(counts[each]) for each in ("right", "wrong", "missing", "invented")), _share(counts["completeness"])]
        for path, counts in told["fields"].items()
    ]
    rows.append(["all", *(str(told[each]) for each in ("right", "wrong", "missing", "invented")), _share(told["recall"])])
    table(rows, ["field", "right", "wrong", "missing", "invented", "complete"], out)
    if told["reliability"]:
        print("\nHow sure against how right", file=out)
        shown = [
            [f"{each['low']:.1f} to {each['high']:.1f}", str(each["values"]), _share(each["sure"]), _share(each["right"])]
            for each in told["reliability"]
        ]
        table(shown, ["sure", "values", "on average", "right"], out)
    cost = f", cost {told['cost']}" if told["cost"] not in ("0", "") else ""
    print(
        f"\nprecision {_share(told['precision'])}, recall {_share(told['recall'])}, {told['tokens']} tokens, {told['seconds']:.1f} s{cost}", file=out
    )


def _share(value: float | None) -> str:
    return "" if value is None else f"{value:.1%}"


def _short(value: Any) -> str:
    text = "" if value is None else str(value)
    return text if len(text) <= 40 else text[:37] + "..."
