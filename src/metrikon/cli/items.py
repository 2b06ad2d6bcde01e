"""upload and runs: send a file, see what became of it, continue it."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import (
    CommandFailed,
    as_minutes,
    client,
    how_it_stands,
    pair_given,
    plain,
    print_json,
    reaching,
    spelled,
    table,
    what_went_out,
    when,
)
from metrikon.client import NotSettled, Run
from metrikon.core.values.dates import parse_date


def add(commands: Any) -> None:
    """Add the commands."""
    sending = commands.add_parser(
        "upload",
        help="send a file to a flow",
        description="Send a file to a flow. With --wait: exit 0 when done, 3 when a person must look, 1 when refused.",
    )
    sending.add_argument("file", type=Path)
    sending.add_argument("--flow", required=True)
    sending.add_argument("--identity", default="", help="sent again under the same identity, a file starts nothing new")
    sending.add_argument("--wait", action="store_true", help="wait until the run settles or needs a person")
    sending.add_argument("--timeout", type=float, default=120.0, help="seconds to wait (default 120)")
    reaching(sending)
    sending.set_defaults(run=run_upload)
    runs = commands.add_parser("runs", help="list, show, continue and cancel runs, or run an item again").add_subparsers(
        title="runs", metavar="ACTION", required=True
    )
    listing = runs.add_parser("list", help="runs, newest first")
    listing.add_argument("--state", default="", help="only these, parted by commas: ready running waiting review parked held done stopped refused")
    listing.add_argument("--flow", default="")
    listing.add_argument("--most", type=int, default=50, help="at most so many (default 50)")
    reaching(listing)
    listing.set_defaults(run=run_list)
    showing = runs.add_parser("show", help="one run with its journal")
    showing.add_argument("id")
    reaching(showing)
    showing.set_defaults(run=run_show)
    going = runs.add_parser("continue", help="continue a parked run from the step that failed, or run a held one anyway")
    going.add_argument("id", nargs="?", help="a run; left out with --parked")
    going.add_argument("--leave", action="store_true", help="leave out elements of lists whose failures are gathered, in place of trying them again")
    going.add_argument("--went", action="store_true", help="what may have gone out did so: somebody has seen it there")
    going.add_argument("--again", action="store_true", help="what may have gone out is done again: somebody has seen that it is not there")
    going.add_argument("--keep", action="store_true", help="what is there with other values stays as it is there")
    going.add_argument("--renew", action="store_true", help="what is there with other values is set, or sent again, as the run has it")
    going.add_argument(
        "--looked", action="store_true", help="the first row that it waits with was looked at and may be written, as may those behind it"
    )
    going.add_argument("--parked", action="store_true", help="continue every parked run")
    reaching(going)
    going.set_defaults(run=run_continue)
    looking = runs.add_parser("there", help="what is there now of the rows of a run that may have been written, beside what was sent")
    looking.add_argument("id")
    reaching(looking)
    looking.set_defaults(run=run_there)
    ending = runs.add_parser("cancel", help="end a run where it stands; what it has written stays")
    ending.add_argument("id", nargs="?", help="a run; left out with --flow")
    ending.add_argument("--flow", default="", help="every run of this flow that has not settled")
    ending.add_argument("--why", default="", help="kept with the run")
    reaching(ending)
    ending.set_defaults(run=run_cancel)
    moving = runs.add_parser(
        "move", help="let a parked run go on as a new one on the newest version of its flow; results of steps that are the same are kept"
    )
    moving.add_argument("id")
    reaching(moving)
    moving.set_defaults(run=run_move)
    pausing = runs.add_parser("pause", help="pause a run; `runs continue` lets it go on")
    pausing.add_argument("id")
    reaching(pausing)
    pausing.set_defaults(run=run_pause)
    _add_again(runs)
    _add_take_back(runs)
    _add_repeats(runs)


def _add_again(runs: Any) -> None:
    again = runs.add_parser(
        "again",
        help="run an item again, from its start or from any step on; or a set of items of a flow",
        description="Run the item of a run again on the newest version of its flow; a run that is parked or in review is replaced, and rows that were written are not "
        "written again. With --from it goes on from that step, with what came before as it was, or as it is corrected with --value. With --flow a "
        "set of items is run again: it is told how many they are and what it takes, and done with --yes.",
    )
    again.add_argument("id", nargs="?", help="a run; left out with --flow")
    again.add_argument("--from", dest="step", default="", metavar="STEP", help="the step from which on it is done anew")
    again.add_argument(
        "--value",
        action="append",
        default=[],
        metavar="PATH=VALUE",
        help="a corrected result of a step before that one, such as checked.record.total=12.00",
    )
    again.add_argument("--flow", default="", help="a set of items of this flow")
    again.add_argument("--state", default="", help="of the set: those whose latest run is in one of these states, parted by commas")
    again.add_argument("--since", default="", metavar="DAY", help="of the set: those that came in from this day on (2026-04-30, UTC)")
    again.add_argument("--until", default="", metavar="DAY", help="of the set: those that came in before this day")
    again.add_argument("--search", default="", help="of the set: those with this in their name or values")
    again.add_argument("--send-again", action="store_true", help="mails, messages and calls that went out before go out again")
    again.add_argument("--anew", action="store_true", help="models are asked anew by the steps that are repeated, whatever they answered before")
    again.add_argument("--yes", action="store_true", help="run the set again without asking")
    reaching(again)
    again.set_defaults(run=run_again)


def _add_repeats(runs: Any) -> None:
    repeats = runs.add_parser(
        "repeats",
        help="likely repeats of a flow that are held: how many, and settle all of them",
        description="What holds the same as an earlier item of its flow is held until somebody says that both are meant. All of a flow are settled at "
        "once with --take or --let-go; it is told how many they are, and done with --yes. What becomes of them from the start an intake may say (`repeats`).",
    )
    repeats.add_argument("flow", help="name of a flow")
    what = repeats.add_mutually_exclusive_group()
    what.add_argument("--take", action="store_true", help="all are meant: their runs go on")
    what.add_argument("--let-go", action="store_true", help="all are repeats: their runs end, and nothing of them is written")
    repeats.add_argument("--yes", action="store_true", help="settle them without asking")
    reaching(repeats)
    repeats.set_defaults(run=run_repeats)


def run_repeats(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Tell of likely repeats, and settle them."""
    with client(given) as service:
        count = service.repeats(given.flow)
        settled = count > 0 and given.yes and (given.take or given.let_go)
        if settled:
            service.settle_repeats(given.flow, "take" if given.take else "let go", count)
    if given.json:
        print_json({"count": count, "settled": settled}, out)
        return 0
    what = "likely repeat" if count == 1 else "likely repeats"
    if settled:
        print(f"{count} {what} of {given.flow} {'taken' if given.take else 'let go'}.", file=out)
    elif count:
        then = "Settle them with --yes." if given.take or given.let_go else "Settle them with --take or --let-go."
        print(f"{count} {what} of {given.flow} {'is' if count == 1 else 'are'} held. {then}", file=out)
    else:
        print(f"No likely repeat of {given.flow} is held.", file=out)
    return 0


def _add_take_back(runs: Any) -> None:
    back = runs.add_parser(
        "take-back",
        help="take back what a run has sent out, or all runs of a version of a flow",
        description="Take back what a settled run has sent out: rows are removed, or hold again what stood there before. What somebody has changed since "
        "stays, as does what cannot be taken back, such as mails. It is told what would be taken back, and done with --yes.",
    )
    back.add_argument("id", nargs="?", help="a run; left out with --flow")
    back.add_argument("--flow", default="", help="all settled runs of a version of this flow")
    back.add_argument("--version", type=int, default=0, help="the version of the flow")
    back.add_argument("--yes", action="store_true", help="do it")
    reaching(back)
    back.set_defaults(run=run_take_back)


def run_upload(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Send a file, and wait if asked to."""
    if not given.file.is_file():
        raise CommandFailed(f"There is no file {given.file}.", 2)
    with client(given) as service:
        sent = service.upload(given.flow, given.file, identity=given.identity)
        if not given.wait:
            if given.json:
                print_json(asdict(sent), out)
            for each in () if given.json else (sent, *sent.others):
                held = " (held: looks like a repeat)" if each.held else ""
                print(f"{'Known already' if each.known else 'Taken in'}: item {each.item_id}, run {each.run_id}{held}", file=out)
            return 0
        try:
            ended = [service.wait(each.run_id, given.timeout) for each in (sent, *sent.others)]
        except NotSettled as error:
            raise CommandFailed(f"{error} It goes on; see it with `metrikon runs show {error.run_id}`.") from error
    if given.json:
        print_json([asdict(run) for run in ended] if sent.others else asdict(ended[0]), out)
    for run in () if given.json else ended:
        print(f"{run.item_name}: {run.state}{f'. {run.reason}' if run.reason else ''}", file=out)
    return max(_exit_code(run) for run in ended)


def _exit_code(run: Run) -> int:
    return 0 if run.state in ("done", "stopped") else 3 if run.needs_person else 1


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List runs."""
    with client(given) as service:
        found = list(islice(service.runs(flow=given.flow, state=given.state), given.most))
    if given.json:
        print_json([asdict(run) for run in found], out)
    elif not found:
        print("There are no such runs.", file=out)
    else:
        table(
            [[run.id, when(run.created_at), run.item_name, run.state, run.reason] for run in found], ["run", "came in", "file", "state", "why"], out
        )
    return 0


def run_show(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Show a run."""
    with client(given) as service:
        run = service.run(given.id)
    if given.json:
        print_json(asdict(run), out)
    else:
        _show(run, out)
    return 0


def _show(run: Run, out: TextIO) -> None:
    print(f"{run.item_name}, flow {run.flow} version {run.flow_version}", file=out)
    print(f"{run.state}{f': {run.reason}' if run.reason else ''}", file=out)
    if run.heard:
        print(f"heard {as_minutes(run.heard.seconds)} of the recording (piece {run.heard.pieces} of {run.heard.in_all})", file=out)
    if run.entering:
        print(f"enters it now: {run.entering.at} ({run.entering.done + 1} of {run.entering.in_all})", file=out)
    print(f"{run.calls} model calls, {run.input_tokens} tokens in, {run.output_tokens} out, cost {run.cost}", file=out)
    if run.record_id:
        print(f"record {run.record_id}", file=out)
    for correction in run.corrections:
        print(f"corrected by {correction.by}, {when(correction.at)}: {correction.path} = {plain(correction.value)}", file=out)
    print(file=out)
    rows = []
    for each in run.journal:
        result = each.data.get("result") or {}
        said = each.data.get("message") or (result.get("place") if isinstance(result, dict) else "") or each.data.get("decision") or ""
        rows.append([str(each.number), when(each.at), each.event, each.path, f"{each.took} ms" if each.took is not None else "", str(said)])
    table(rows, ["no", "at", "event", "step", "took", ""], out)
    for one in run.deliveries:
        print(f"{what_went_out(one)}: {how_it_stands(one)}", file=out)


def run_continue(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Continue runs."""
    if bool(given.id) == given.parked:
        raise CommandFailed("Give either a run or --parked.", 2)
    if (given.went or given.again) and (given.parked or (given.went and given.again)):
        raise CommandFailed("Say of one run whether what may have gone out went (--went) or is to be done again (--again).", 2)
    if (given.keep or given.renew) and (given.parked or (given.keep and given.renew)):
        raise CommandFailed("Say of one run whether what is there otherwise stays (--keep) or is set (--renew).", 2)
    if given.looked and given.parked:
        raise CommandFailed("Say of one run that you have looked at its first row (--looked); the others that wait for that go on with it.", 2)
    with client(given) as service:
        if given.parked:
            count = service.continue_parked()
        else:
            unsure, otherwise = _word(went=given.went, again=given.again), _word(keep=given.keep, renew=given.renew)
            service.continue_run(given.id, leave=given.leave, unsure=unsure, otherwise=otherwise, looked=given.looked)
            count = 1
    print_json({"continued": count}, out) if given.json else print(f"{count} run{'s' if count != 1 else ''} continued.", file=out)
    return 0


def _word(**said: bool) -> str:
    """The word that was said of several; nothing where none was."""
    return next((word for word, is_said in said.items() if is_said), "")


def run_there(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Look for what may have been written."""
    with client(given) as service:
        found = service.there_now(given.id)
    if given.json:
        print_json(found, out)
    elif not found:
        print("No row of this run may have been written without our knowing.", file=out)
    for each in () if given.json else found:
        print(f"To {each['to']}: {each['why'] or _alike(each['found'])}", file=out)
        held = each["found"] or []
        names = [*each["sent"], *dict.fromkeys(name for record in held for name in record if name not in each["sent"])]
        rows = [[name, *("" if one.get(name) is None else str(one[name]) for one in (each["sent"], *held))] for name in names]
        table(rows, ["", "we sent", *(f"there now {number}" for number in range(1, len(held) + 1))], out)
    if found and not given.json:
        print(f"\nSay what you saw: `metrikon runs continue {given.id} --went`, or `--again`.", file=out)
    return 0


def _alike(found: list[dict[str, Any]]) -> str:
    return f"{len(found)} there now {'is' if len(found) == 1 else 'are'} like it." if found else "nothing there now is like it."


def run_cancel(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Cancel a run."""
    if bool(given.id) == bool(given.flow):
        raise CommandFailed("Give either a run or --flow.", 2)
    with client(given) as service:
        if given.flow:
            count = service.cancel_runs(given.flow, given.why)
            print_json({"cancelled": count}, out) if given.json else print(f"{count} run{'' if count == 1 else 's'} cancelled.", file=out)
            return 0
        service.cancel(given.id, given.why)
        run = service.run(given.id)
    print_json(asdict(run), out) if given.json else print(f"{run.item_name}: {run.state}. {run.reason}", file=out)
    return 0


def run_move(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Move a parked run to the newest version of its flow."""
    with client(given) as service:
        run_id = service.move_run(given.id)
    print_json({"run_id": run_id}, out) if given.json else print(f"It goes on as run {run_id}.", file=out)
    return 0


def run_pause(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Pause a run."""
    with client(given) as service:
        service.pause_run(given.id)
    print_json({"paused": given.id}, out) if given.json else print("Paused. It goes on with `metrikon runs continue`.", file=out)
    return 0


def run_take_back(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Take back what runs have sent out."""
    if bool(given.id) == bool(given.flow) or bool(given.flow) != bool(given.version):
        raise CommandFailed("Give either a run, or --flow with --version.", 2)
    with client(given) as service:
        if given.flow:
            found = service.take_back_version(given.flow, given.version)
            if given.yes and found["items"]:
                found = service.take_back_version(given.flow, given.version, count=found["runs"])
        else:
            found = service.take_back(given.id, yes=given.yes)
    if given.json:
        print_json(found, out)
        return 0
    for each in found["items"]:
        print(f"{what_went_out(each['delivery'])}: {each['stays'] or _back(each['delivery'])}", file=out)
    if not found["items"]:
        print("Nothing was sent out that is still there.", file=out)
    elif not found["done"]:
        print("Take it back with --yes.", file=out)
    return 0


def _back(delivery: dict[str, Any]) -> str:
    """What is done when it is taken back."""
    return f"to be taken back; the row stays, with {delivery['mark']}." if delivery["mark"] else "to be taken back."


def run_again(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Run an item or a set again."""
    if bool(given.id) == bool(given.flow):
        raise CommandFailed("Give either a run or --flow.", 2)
    if given.flow:
        return _run_set(given, out)
    typed = dict(pair_given(each) for each in given.value)
    with client(given) as service:
        run_id = service.run_again_from(given.id, given.step, typed=typed, send_again=given.send_again, anew=given.anew)
        noted = service.run(run_id).corrections if typed else []
    if given.json:
        print_json({"run_id": run_id}, out)
        return 0
    for each in [each for each in noted if each.path in typed]:
        print(f"{each.path} is now {spelled(each.value) or 'empty'}.", file=out)
    print(f"Run {run_id} has begun.", file=out)
    return 0


def _run_set(given: argparse.Namespace, out: TextIO) -> int:
    chosen = {"step": given.step, "state": given.state, "since": _day(given.since), "until": _day(given.until), "search": given.search}
    chosen |= {"send_again": given.send_again, "anew": given.anew}
    with client(given) as service:
        found = service.run_set_again(given.flow, **chosen)
        if given.yes and found["count"]:
            found = service.run_set_again(given.flow, **chosen, count=found["count"])
    if given.json:
        print_json(found, out)
        return 0
    cost = f", {found['cost']}" if found["cost"] not in ("0", "") else ""
    most = (
        f"at most {found['calls']} model calls, {found['tokens']} tokens{cost}, going by their latest runs" if found["calls"] else "no model is asked"
    )
    print(f"{found['count']} item{'' if found['count'] == 1 else 's'}; {most}.", file=out)
    if found["sent"]:
        sent = ", ".join(f"{count} {kind if count == 1 else SEVERAL.get(kind, kind + 's')}" for kind, count in found["sent"].items())
        print(
            f"{sent} went out by them before: {'they go out again' if given.send_again else 'they are left at that, but for --send-again'}.", file=out
        )
    if found["runs"]:
        print(f"{len(found['runs'])} run{'' if len(found['runs']) == 1 else 's'} begun.", file=out)
    elif found["count"]:
        print("Run them again with --yes.", file=out)
    return 0


SEVERAL = {"entry": "entries"}  # of the words for what goes out: the others end with an s


def _day(text: str) -> int:
    """The start of a day in UTC, in milliseconds since 1970; 0 for none."""
    if not text:
        return 0
    try:
        return int(datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp() * 1000)
    except ValueError as error:
        meant = parse_date(text)
        told = f" Is {meant.isoformat()} meant?" if meant is not None else ""
        raise CommandFailed(f"{text!r} is no day, such as 2026-04-30.{told}", 2) from error
