"""classify and compare: judge files, without a service."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.models import Models, models_of
from metrikon.cli.common import CommandFailed, print_json, settings_from, table
from metrikon.cli.reading import READABLE, passwords_in, read_together, refused, with_passwords
from metrikon.core.extraction.asking import Asking
from metrikon.core.extraction.index import Index
from metrikon.core.extraction.plan import ROOM
from metrikon.core.judging.classify import NONE, Classify
from metrikon.core.judging.compare import Compare, lines_of
from metrikon.core.judging.tasks import Task
from metrikon.core.judging.verdict import Option
from metrikon.core.records import findings
from metrikon.drivers.judge import Judged, JudgesNothing, judge
from metrikon.drivers.paper import LocalPaper
from metrikon.models.pattern import PATTERN
from metrikon.ports.model import Model, ModelDown, ModelRefused
from metrikon.ports.reader import Refused

MOST_CALLS = 12


def add(commands: Any) -> None:
    """Add the commands."""
    telling = commands.add_parser(
        "classify",
        help="tell what a file is, by labels or by questions",
        description="Tell which of some labels fits a file, or which of some questions is the first that is true of it, with the words that it rests on. "
        "It takes a language model. Exit 0 when it is sure enough, 3 when a person must look, 2 when the file cannot be read.",
    )
    telling.add_argument("file", type=Path, help=READABLE)
    telling.add_argument("--label", action="append", default=[], metavar="NAME=MEANING", help="a label, and what it means; may be given again")
    telling.add_argument("--question", action="append", default=[], metavar="NAME=QUESTION", help="a yes/no question; the first that is true counts")
    telling.add_argument("--otherwise", default=NONE, metavar="NAME", help=f"the outcome where none fits (default: {NONE})")
    telling.add_argument("--least", type=float, default=0.6, metavar="SHARE", help="how sure the outcome must be (default: 0.6)")
    _with_models(telling)
    telling.set_defaults(run=run_classify)
    comparing = commands.add_parser(
        "compare",
        help="tell what changed from one file to another, and whether it matters",
        description="Tell what changed between two files. Numbers and dates are compared by what they say; the order of rows, spelling and layout are no "
        "change. With --matters a language model says of each change whether it matters; without, every change does. "
        "Exit 0 when it is sure, 3 when a person must look, 2 when a file cannot be read.",
    )
    comparing.add_argument("before", type=Path, help="the file as it was")
    comparing.add_argument("file", type=Path, help="the file as it is now")
    comparing.add_argument("--matters", default="", metavar="WORDS", help="what matters, such as “other prices; new or dropped plants”")
    comparing.add_argument("--least", type=float, default=0.6, metavar="SHARE", help="how sure the outcome must be (default: 0.6)")
    _with_models(comparing)
    comparing.set_defaults(run=run_compare)


def _with_models(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--model-url", metavar="URL", help="base URL of a chat-completions server; its key comes from METRIKON_MODEL_KEY")
    parser.add_argument("--model", metavar="NAME", help="name of the model at that server")
    parser.add_argument(
        "--second-reading",
        nargs="?",
        const="",
        metavar="NAME",
        help="judge a second time, in another order, by the same model or by another one of models.yaml",
    )
    parser.add_argument("--context", default="", help="what the model should know besides")
    parser.add_argument("--prompt", action="store_true", help="show what would be asked, word by word, and ask nothing")
    with_passwords(parser)
    parser.add_argument("--json", action="store_true", help="print the result and what it took as JSON")


def run_classify(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell what a file is."""
    labels, questions = _options(given.label, "--label"), _options(given.question, "--question")
    if bool(labels) == bool(questions):
        raise CommandFailed("Give either labels (--label NAME=MEANING, two or more) or questions (--question NAME=QUESTION).", 2)
    if len(labels) == 1:
        raise CommandFailed("One label alone tells nothing; give two, or ask a question.", 2)
    if not 0 <= given.least <= 1:
        raise CommandFailed("--least is a share from 0 to 1.", 2)
    return _carried_out(given, Classify(labels, questions, given.otherwise, given.least), out, err)


def run_compare(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell what changed."""
    settings = settings_from(model_url=given.model_url, model_name=given.model)
    try:
        before = read_together([given.before], settings, passwords_in(given.passwords))
    except Refused as error:
        return refused(given, error, out, err)
    task = Compare(tuple(lines_of(Index(before))), None, given.matters, given.least)
    return _carried_out(given, task, out, err)


def _options(given: Sequence[str], option: str) -> tuple[Option, ...]:
    found = []
    for each in given:
        name, mark, about = each.partition("=")
        if not name.strip() or (mark and not about.strip()):
            raise CommandFailed(f"{option} {each!r} is not NAME=MEANING.", 2)
        found.append(Option(name.strip(), about.strip()))
    names = [each.name for each in found]
    for name in names:
        if names.count(name) > 1:
            raise CommandFailed(f"{option} {name} is given twice.", 2)
    return tuple(found)


def _carried_out(given: argparse.Namespace, task: Task, out: TextIO, err: TextIO) -> int:
    settings = settings_from(model_url=given.model_url, model_name=given.model)
    try:
        document = read_together([given.file], settings, passwords_in(given.passwords))
    except Refused as error:
        return refused(given, error, out, err)
    models = models_of(settings)
    try:
        model = _model(models, given.model if given.model in models.by_name else models.default)
        second = None if given.second_reading is None else _model(models, given.second_reading or models.default)
        asking = Asking(date.today().isoformat(), given.context, model.room if model.name != PATTERN else ROOM, second=second is not None)
        paper = LocalPaper(Index(document))
        if given.prompt:
            return _prompts(paper, task, asking, out)
        found = judge(model, task, paper, asking, second, MOST_CALLS)
    except JudgesNothing as error:
        raise CommandFailed(
            "It takes a language model: give --model-url, or list one in models.yaml. The pattern reader judges nothing.", 2
        ) from error
    except (ModelDown, ModelRefused) as error:
        raise CommandFailed(str(error)) from error
    finally:
        models.close()
    if given.json:
        result = {**found.verdict.result, "needs_person": found.needs_person, "findings": findings.as_json(list(found.verdict.findings))}
        print_json({**result, "model": found.model, "asked": found.asked, "usage": found.usage.as_json()}, out)
    else:
        _show(found, out)
    return 3 if found.needs_person else 0


def _model(models: Models, name: str) -> Model:
    if name not in models.by_name:
        raise CommandFailed(f"There is no model {name!r}. Known: {', '.join(models.by_name)}.", 2)
    return models.by_name[name]


def _prompts(paper: LocalPaper, task: Task, asking: Asking, out: TextIO) -> int:
    for each in paper.judging(task, asking):
        print(f"== {each.about}", file=out)
        for message in each.messages:
            print(f"-- {message['role']}\n{message['content']}\n", file=out)
    takes = paper.judging_takes(task, asking)
    print(f"{takes.requests} request{'s' if takes.requests != 1 else ''} of {takes.prompt:,} characters in all. Nothing was asked.", file=out)
    return 0


def _where(answer: Mapping[str, Any]) -> str:
    evidence = answer.get("evidence") or {}
    return f"page {evidence['page']}: {evidence['quote']}" if evidence.get("page") else str(evidence.get("how", ""))


def _change(change: Mapping[str, Any]) -> str:
    """A change in a line: what was, what is, and why it matters."""
    before, after = change["before"] or "nothing", change["after"] or "nothing"
    why = f"  ({change['why']})" if change["why"] else ""
    return f"{before}  →  {after}{why}"


def _show(found: Judged, out: TextIO) -> None:
    result = found.verdict.result
    if result:
        print(f"{result['outcome']}, {round(100 * float(result['sure']))} % sure", file=out)
        print(file=out)
        if "answers" in result:
            rows = [[each["name"], str(each["answer"]), f"{float(each['sure']):.2f}", _where(each)] for each in result["answers"]]
            table(rows, ["what", "answer", "sure", "its words"], out)
        for each in result.get("changes", ()):
            print(f"{'!' if each['material'] else ' '} {_change(each)}", file=out)
    print(file=out)
    for each in found.verdict.findings:
        print(f"{each.level}: {each.message}", file=out)
    if not found.asked:
        print("It was worked out without asking a model.", file=out)
        return
    print(f"Judged by {found.model}: {found.usage.input_tokens} tokens in, {found.usage.output_tokens} out, {found.usage.seconds:.2f} s.", file=out)
