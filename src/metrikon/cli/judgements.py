"""judgements: listed, the best first; set right; judged again beside anchors, to see who would move."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed, client, print_json, reaching, table, when

_IN_LINE = 6  # criteria whose marks are shown in a line


def add(commands: Any) -> None:
    """Add the commands."""
    judgements = commands.add_parser(
        "judgements", help="what flows have judged: list, show and correct it, or judge it again to see who would move"
    ).add_subparsers(title="judgements", metavar="ACTION", required=True)
    listing = judgements.add_parser("list", help="the newest judgement of each item of a flow, the best first, and the anchors")
    _of_flow(listing)
    reaching(listing)
    listing.set_defaults(run=run_list)
    showing = judgements.add_parser("show", help="one judgement: marks, reasons, words, what is missing")
    showing.add_argument("id")
    reaching(showing)
    showing.set_defaults(run=run_show)
    correcting = judgements.add_parser(
        "correct",
        help="set marks right; total and label are worked out anew",
        description="Set marks of a judgement right. Total and label are worked out anew; what the flow did by them stays done (`runs again --from` does it "
        "anew). What people set right is chosen first when anchors are.",
    )
    correcting.add_argument("id")
    correcting.add_argument("mark", nargs="+", metavar="CRITERION=MARK", help="such as propagation=2")
    correcting.add_argument("--comment", default="", help="why; kept with it")
    reaching(correcting)
    correcting.set_defaults(run=run_correct)
    again = judgements.add_parser(
        "again",
        help="judge a chosen set again by the newest criteria, and list who would move",
        description="Judge a chosen set again by the criteria that the flow has now, beside the anchors that stand, or beside new ones (--renew), and list "
        "who would move. It is told how many they are and what it takes, and done with --yes. Nothing that the flow did changes; new anchors count "
        "once they are taken with `judgements take`.",
    )
    _of_flow(again)
    again.add_argument("--label", default="", help="those with this label")
    again.add_argument("--most", type=int, default=0, metavar="N", help="at most so many, the best first")
    again.add_argument("--renew", action="store_true", help="choose anchors anew: what people set right first, then from the best to the worst")
    again.add_argument("--anchors", type=int, default=3, metavar="N", help="how many are chosen (default: 3)")
    again.add_argument("--yes", action="store_true", help="judge them without asking")
    again.add_argument("--id", default="", help="what was begun before: show it, and go on with it where it was stopped")
    reaching(again)
    again.set_defaults(run=run_again)
    taking = judgements.add_parser("take", help="let the anchors that were chosen for judging again count from now on")
    taking.add_argument("id", help="what was judged again with --renew")
    reaching(taking)
    taking.set_defaults(run=run_take)


def _of_flow(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--flow", default="", help="the flow")
    parser.add_argument("--step", default="", help="the step that judges, where there are several")
    parser.add_argument("--search", default="", help="those with this in their name or reasons")


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """The judgements of a flow."""
    if not given.flow:
        raise CommandFailed("Name the flow with --flow.", 2)
    with client(given) as service:
        found = service.judgements(given.flow, step=given.step, search=given.search)
    if given.json:
        print_json(found, out)
        return 0
    if not found["items"]:
        print("Nothing was judged by it so far.", file=out)
    else:
        table([_line(each) for each in found["items"]], ["id", "file", "total", "label", "marks", ""], out)
    for each in found["steps"]:
        print(f"\n{each['step']}: {_beside(each)}", file=out)
    return 0


def _line(each: Mapping[str, Any]) -> list[str]:
    marks = " ".join(f"{mark['name']} {mark['mark']}/{mark['of']}" for mark in each["marks"][:_IN_LINE])
    more = f" and {len(each['marks']) - _IN_LINE} more" if len(each["marks"]) > _IN_LINE else ""
    told = [
        f"set right by {each['corrected_by']}" if each["corrected_by"] else "",
        f"labelled by {each['answered_by']}" if each["answered_by"] and not each["corrected_by"] else "",
        "look" if each["needs_person"] else "",
        "a stand-in" if each["stand_in"] else "",
        "" if each["current"] else "by other criteria",
    ]
    return [each["id"], each["item_name"], f"{each['total']} %", each["label"], f"{marks}{more}", ", ".join(one for one in told if one)]


def _beside(step: Mapping[str, Any]) -> str:
    if not step["anchors"]:
        return "no anchors were chosen for its criteria; `judgements again --renew` chooses some."
    totals = ", ".join(f"{each['total']} %{' (set right)' if each['corrected'] else ''}" for each in step["anchors"])
    return f"judged beside {len(step['anchors'])} anchors, {totals}; chosen by {step['by']}, {when(step['since'])}."


def run_show(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """One judgement."""
    with client(given) as service:
        found = service.judgement(given.id)
    _told(given, found, out)
    return 0


def run_correct(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Set marks right."""
    marks = dict(_mark(each) for each in given.mark)
    with client(given) as service:
        found = service.correct_judgement(given.id, marks, given.comment)
    _told(given, found, out)
    return 0


def _mark(text: str) -> tuple[str, int]:
    name, equals, mark = text.partition("=")
    if not (name and equals and mark.strip().lstrip("-").isdecimal()):
        raise CommandFailed(f"{text!r} is not CRITERION=MARK, such as propagation=2.", 2)
    return name.strip(), int(mark)


def _told(given: argparse.Namespace, found: Mapping[str, Any], out: TextIO) -> None:
    if given.json:
        print_json(found, out)
        return
    right = f", set right by {found['corrected_by']}" if found["corrected_by"] else ""
    print(f"{found['item_name']}: {found['label']}, {found['total']} % of all that can be earned{right}\n", file=out)
    rows = [[each["name"], _marked(each), f"{float(each['sure']):.2f}", each["reason"], _words(each)] for each in found["marks"]]
    table(rows, ["criterion", "mark", "sure", "reason", "its words"], out)
    for head, name in (("speaks for it", "speaks_for"), ("missing", "missing"), ("to ask", "to_ask"), ("not shown to the model", "left_out")):
        if found[name]:
            print(f"{head}: {'; '.join(found[name])}", file=out)
    if found["anchors"]:
        print(f"judged beside: {', '.join(found['anchors'])}", file=out)
    if found["comment"]:
        print(f"comment: {found['comment']}", file=out)
    for each in found["findings"]:
        print(f"{each['level']}: {each['message']}", file=out)


def _marked(mark: Mapping[str, Any]) -> str:
    was = f" (was {mark['was']})" if mark.get("was") is not None else ""
    return f"{mark['mark']} of {mark['of']}{was}"


def _words(mark: Mapping[str, Any]) -> str:
    evidence = mark.get("evidence") or {}
    return f"page {evidence['page']}: {evidence['quote']}" if evidence.get("page") else f"set by {mark['by']}" if mark.get("by") else ""


def run_again(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Judge a set again, and list who would move."""
    if bool(given.flow) == bool(given.id):
        raise CommandFailed("Name the flow with --flow, or what was begun before with --id.", 2)
    chosen = {name: getattr(given, name) for name in ("step", "label", "search", "most", "renew", "anchors")}
    with client(given) as service:
        id_ = given.id
        if not id_:
            told = service.judge_again(given.flow, **chosen)
            if not (given.yes and told["count"]):
                _takes(given, told, out)
                return 0
            id_ = service.judge_again(given.flow, **chosen, count=told["count"])["id"]
        elif service.rejudging(id_)["state"] in ("stopped", "failed"):
            service.continue_rejudging(id_)
        found: dict[str, Any] = {}
        try:
            for found in service.rejudgings(id_):
                print(f"{found['done']} of {found['count']}", file=err, flush=True)
        except KeyboardInterrupt:
            service.stop_rejudging(id_)
            print(f"\nStopped; `metrikon judgements again --id {id_}` goes on.", file=err)
            found = service.rejudging(id_)
    if given.json:
        print_json(found, out)
    else:
        _moves(found, out)
    return 1 if found["state"] == "failed" else 0


def _takes(given: argparse.Namespace, told: Mapping[str, Any], out: TextIO) -> None:
    if given.json:
        print_json(told, out)
        return
    cost = f", {told['cost']}" if told["cost"].strip("0.") else ""
    print(
        f"{told['count']} judgement{'' if told['count'] == 1 else 's'}; about {told['requests']} requests, {told['tokens']} tokens{cost}.", file=out
    )
    print(f"Beside {_shown(told['anchors'])}.", file=out)
    if told["count"]:
        print("Judge them again with --yes.", file=out)


def _shown(anchors: Sequence[Mapping[str, Any]]) -> str:
    each = "; ".join(f"{one['total']} %{', set right by a person' if one['corrected'] else ''} ({one['id']})" for one in anchors)
    return f"{len(anchors)} anchor{'' if len(anchors) == 1 else 's'}: {each}" if anchors else "no anchors"


def _moves(found: Mapping[str, Any], out: TextIO) -> None:
    moved = [each for each in found["moves"] if each["moved"]]
    problems = [each for each in found["moves"] if each["problem"]]
    print(f"{found['done']} of {found['count']} judged again, beside {_shown(found['anchors'])}.", file=out)
    print(f"{len(moved) or 'Nobody'} would move.\n", file=out)
    if moved:
        rows = [
            [
                each["name"],
                f"{each['total']} % → {each['new_total']} %",
                each["label"] if each["label"] == each["new_label"] else f"{each['label']} → {each['new_label']}",
                f"{each['place']} → {each['new_place']}",
                ", ".join(f"{name} {_side(old)} → {_side(new)}" for name, old, new in each["marks"]),
                f"look: {each['why']}" if each["why"] else "",
            ]
            for each in moved
        ]
        table(rows, ["file", "total", "label", "place", "marks", ""], out)
    for each in problems:
        print(f"{each['name']}: {each['problem']}", file=out)
    if found["problem"]:
        print(f"{found['state']}: {found['problem']}", file=out)
    if found["renewed"] and found["state"] == "done" and not found["taken"]:
        print(f"\nLet these anchors count with `metrikon judgements take {found['id']}`.", file=out)


def _side(mark: int | None) -> str:
    return "none" if mark is None else str(mark)


def run_take(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Let anchors count."""
    with client(given) as service:
        found = service.take_anchors(given.id)
    print_json(found, out) if given.json else print(f"{found['step']} of {found['flow']} is judged beside {_shown(found['anchors'])}.", file=out)
    return 0
