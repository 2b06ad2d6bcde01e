"""classify, judge and compare: judge files, without a service."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.kinds import kinds
from metrikon.app.models import Models, models_of
from metrikon.cli.common import CommandFailed, print_json, settings_from, table
from metrikon.cli.given import file_text
from metrikon.cli.reading import READABLE, passwords_in, read_together, refused, with_passwords
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.extraction.planning.plan import ROOM
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Known
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.judging.classify import NONE, Classify
from metrikon.core.judging.compare import Compare, lines_of
from metrikon.core.judging.tasks import Task
from metrikon.core.judging.verdict import Option
from metrikon.core.records import findings
from metrikon.core.values.exact import dumps
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
    telling.add_argument("--least", type=_share, default=0.6, metavar="SHARE", help="how sure the outcome must be (default: 0.6)")
    _with_models(telling)
    telling.set_defaults(run=run_classify)
    marking = commands.add_parser(
        "judge",
        help="mark files against criteria, each mark with its words",
        description="Mark files against criteria: a mark, a reason and the words that it rests on for each; the total and the label are worked out from the "
        "marks. The file of criteria (YAML or JSON) says what a step `judge` says: criteria, labels, and blind, hide, least where they differ. Of several "
        "files the best comes first. It takes a language model. Exit 0 when all is sure enough, 3 when a person must look, 2 when a file cannot be read.",
    )
    marking.add_argument("file", type=Path, nargs="+", help=READABLE)
    marking.add_argument("--criteria", type=Path, required=True, metavar="FILE", help="the criteria and labels")
    _with_models(marking)
    marking.set_defaults(run=run_judge)
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
    comparing.add_argument("--least", type=_share, default=0.6, metavar="SHARE", help="how sure the outcome must be (default: 0.6)")
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
    return _carried_out(given, Classify(labels, questions, given.otherwise, given.least), [given.file], out, err)


def run_compare(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell what changed."""
    settings = settings_from(model_url=given.model_url, model_name=given.model)
    try:
        before = read_together([given.before], settings, passwords_in(given.passwords))
    except Refused as error:
        return refused(given, error, out, err)
    task = Compare(tuple(lines_of(Index(before))), None, given.matters, given.least)
    return _carried_out(given, task, [given.file], out, err)


def run_judge(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Mark files against criteria."""
    return _carried_out(given, _criteria_in(given.criteria), given.file, out, err)


def _criteria_in(path: Path) -> Task:
    """The task that a file of criteria says: as a step says it, with the same checks."""
    try:
        said = from_yaml(file_text(path))
    except NotYaml as error:
        raise CommandFailed(f"{path} cannot be read: {error}", 2) from error
    if not isinstance(said, dict):
        raise CommandFailed(f"{path} holds no criteria. It wants `criteria`, a list, and `labels`.", 2)
    steps = [{"name": "paper", "read": {}}, {"name": "marks", "judge": {**said, "of": "${paper}"}}]
    text = dumps({"metrikon": 1, "name": "judge", "intakes": [{"kind": "upload"}], "steps": steps}).decode()
    flow, problems = checked(text, kinds().language, Known(whole=False))
    if problems or flow is None:
        told = "\n".join(f"  {each.place.removeprefix('judge/')}: {each.message}" for each in problems)
        raise CommandFailed(f"{path} says no criteria that can be used:\n{told}", 2)
    asked = flow.steps[1].kind.asks(flow.steps[1].parameters)
    assert asked is not None
    assert asked.task is not None
    return asked.task


def _share(text: str) -> float:
    """A share from 0 to 1, as an option gives it."""
    try:
        found = float(text)
    except ValueError:
        found = -1.0
    if not 0 <= found <= 1:
        raise argparse.ArgumentTypeError(f"{text!r} is no share from 0 to 1")
    return found


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


def _carried_out(given: argparse.Namespace, task: Task, files: Sequence[Path], out: TextIO, err: TextIO) -> int:
    settings = settings_from(model_url=given.model_url, model_name=given.model)
    models = models_of(settings)
    found: list[tuple[Path, Judged]] = []
    try:
        model = _model(models, given.model if given.model in models.by_name else models.default)
        second = None if given.second_reading is None else _model(models, given.second_reading or models.default)
        room = model.room if model.name != PATTERN else ROOM
        asking = Asking(date.today().isoformat(), given.context, room, second=second is not None)
        for path in files:
            paper = LocalPaper(Index(read_together([path], settings, passwords_in(given.passwords))))
            if given.prompt:
                _prompts(paper, task, asking, out)
            else:
                found.append((path, judge(model, task, paper, asking, second, MOST_CALLS)))
                if len(files) > 1:
                    print(f"{len(found)} of {len(files)}: {path.name}", file=err)
    except Refused as error:
        return refused(given, error, out, err)
    except JudgesNothing as error:
        raise CommandFailed(
            "It takes a language model: give --model-url, or list one in models.yaml. The pattern reader judges nothing.", 2
        ) from error
    except (ModelDown, ModelRefused) as error:
        raise CommandFailed(str(error)) from error
    finally:
        models.close()
    if given.json and found:
        every = [_as_json(path, each) for path, each in found]
        print_json(every if len(files) > 1 else every[0], out)
    elif len(found) > 1:
        _ranked(found, out)
    elif found:
        _show(found[0][1], out)
    return 3 if any(each.needs_person for _, each in found) else 0


def _as_json(path: Path, found: Judged) -> dict[str, Any]:
    told = {"needs_person": found.needs_person, "findings": findings.as_json(list(found.verdict.findings))}
    return {"file": path.name, **found.verdict.result, **told, "model": found.model, "asked": found.asked, "usage": found.usage.as_json()}


def _ranked(found: Sequence[tuple[Path, Judged]], out: TextIO) -> None:
    """Several files, the best first."""
    rows = []
    for path, each in sorted(found, key=lambda pair: -int(pair[1].verdict.result.get("total") or 0)):
        result = each.verdict.result
        why = next((one.message for one in each.verdict.findings if one.level == "stop"), "")
        marks = " ".join(f"{mark['name']} {mark['mark']}/{mark['of']}" for mark in result["marks"])
        rows.append([path.name, f"{result['total']} %", str(result["outcome"]), marks, f"look: {why}" if why else ""])
    table(rows, ["file", "total", "label", "marks", ""], out)
    cost = sum(each.usage.input_tokens for _, each in found), sum(each.usage.output_tokens for _, each in found)
    for level, message in dict.fromkeys((one.level, one.message) for _, each in found for one in each.verdict.findings if one.check == "stand-in"):
        print(f"{level}: {message}", file=out)
    print(f"Judged by {found[0][1].model}: {cost[0]} tokens in, {cost[1]} out.", file=out)


def _model(models: Models, name: str) -> Model:
    if name not in models.by_name:
        raise CommandFailed(f"There is no model {name!r}. Known: {', '.join(models.by_name)}.", 2)
    return models.by_name[name]


def _prompts(paper: LocalPaper, task: Task, asking: Asking, out: TextIO) -> None:
    for each in paper.judging(task, asking):
        print(f"== {each.about}", file=out)
        for message in each.messages:
            print(f"-- {message['role']}\n{message['content']}\n", file=out)
    takes = paper.judging_takes(task, asking)
    print(f"{takes.requests} request{'s' if takes.requests != 1 else ''} of {takes.prompt:,} characters in all. Nothing was asked.", file=out)


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
        total = f", {result['total']} % of all that can be earned" if "total" in result else ""
        print(f"{result['outcome']}{total}, {round(100 * float(result['sure']))} % sure", file=out)
        print(file=out)
        if "answers" in result:
            rows = [[each["name"], str(each["answer"]), f"{float(each['sure']):.2f}", _where(each)] for each in result["answers"]]
            table(rows, ["what", "answer", "sure", "its words"], out)
        if "marks" in result:
            rows = [
                [each["name"], f"{each['mark']} of {each['of']}", f"{float(each['sure']):.2f}", each["reason"], _where(each)]
                for each in result["marks"]
            ]
            table(rows, ["criterion", "mark", "sure", "reason", "its words"], out)
            for head, name in (("speaks for it", "speaks_for"), ("missing", "missing"), ("to ask", "to_ask"), ("not shown to the model", "left_out")):
                if result[name]:
                    print(f"{head}: {'; '.join(result[name])}", file=out)
        for each in result.get("changes", ()):
            print(f"{'!' if each['material'] else ' '} {_change(each)}", file=out)
    print(file=out)
    for each in found.verdict.findings:
        print(f"{each.level}: {each.message}", file=out)
    if not found.asked:
        print("It was worked out without asking a model.", file=out)
        return
    print(f"Judged by {found.model}: {found.usage.input_tokens} tokens in, {found.usage.output_tokens} out, {found.usage.seconds:.2f} s.", file=out)
