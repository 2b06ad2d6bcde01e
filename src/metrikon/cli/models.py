"""models, calls, estimate: which models there are, what they were asked, what they would cost."""

from __future__ import annotations

import argparse
from decimal import Decimal
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed, client, print_json, reaching, table, when


def add(commands: Any) -> None:
    """Add the commands."""
    listing = commands.add_parser("models", help="every model with its prices")
    reaching(listing)
    listing.set_defaults(run=run_models)
    calls = commands.add_parser("calls", help="what models were asked and answered").add_subparsers(title="calls", metavar="ACTION", required=True)
    of_run = calls.add_parser("list", help="the calls of a run")
    of_run.add_argument("run_id", metavar="RUN")
    reaching(of_run)
    of_run.set_defaults(run=run_list)
    one = calls.add_parser("show", help="one call with its prompt and its answer")
    one.add_argument("id", metavar="CALL")
    reaching(one)
    one.set_defaults(run=run_show)
    estimating = commands.add_parser(
        "estimate",
        help="what files would cost in a flow, before they are taken in",
        description="What files would cost in a flow. They are read and planned for; no model is asked and nothing is kept.",
    )
    estimating.add_argument("paths", type=Path, nargs="+", metavar="FILE", help="files, or folders of files")
    estimating.add_argument("--flow", required=True)
    reaching(estimating)
    estimating.set_defaults(run=run_estimate)


def run_models(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List models."""
    with client(given) as service:
        found = service.models()
    if given.json:
        print_json(found, out)
        return 0
    rows = [
        [
            each["name"],
            "default" if each["default"] else "",
            each["price_in"],
            each["price_out"],
            f"{each['pictures']} a request" if each["pictures"] else "",
            ", ".join(each["fallback"]),
            "rests" if each["resting"] else "",
        ]
        for each in found
    ]
    table(rows, ["model", "", "a million read", "a million written", "pictures", "then", ""], out)
    return 0


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List the calls of a run."""
    with client(given) as service:
        found = service.calls(given.run_id)
    if given.json:
        print_json(found, out)
    elif not found:
        print("No model was asked in this run.", file=out)
    else:
        rows = [
            [
                c["id"],
                when(c["at"]),
                c["model"],
                c["stage"],
                c["outcome"],
                str(c["input_tokens"]),
                str(c["output_tokens"]),
                c["cost"],
                f"{c['took']} ms",
                c["error"] or "",
            ]
            for c in found
        ]
        table(rows, ["call", "at", "model", "stage", "outcome", "read", "written", "cost", "took", ""], out)
    return 0


def run_show(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Show a call."""
    with client(given) as service:
        found = service.call(given.id)
    if given.json:
        print_json(found, out)
        return 0
    print(
        f"{found['model']}, {found['stage']}: {found['outcome']}, {found['input_tokens']} tokens read, {found['output_tokens']} written, {found['cost']}",
        file=out,
    )
    for message in found["messages"]:
        print(f"\n--- {message['role']}\n{message['content']}", file=out)
    for picture in found["pictures"]:
        print(f"\n--- shown as a picture\npage {picture['page']} of the document {picture['document']}", file=out)
    said = found["answer"] if found["answer"] is not None else found["error"] or "It is no longer kept."
    print(f"\n--- answer\n{said}", file=out)
    return 0


def run_estimate(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Estimate what files would cost."""
    files = [inner for path in given.paths for inner in (sorted(each for each in path.iterdir() if each.is_file()) if path.is_dir() else [path])]
    missing = next((path for path in files if not path.is_file()), None)
    if missing or not files:
        raise CommandFailed(f"There is no file {missing}." if missing else "There are no files in the folder.", 2)
    found = []
    with client(given) as service:
        for number, path in enumerate(files, 1):
            if err.isatty():
                print(f"\r{number} of {len(files)}", end="", file=err, flush=True)
            found.append({"file": str(path), **service.estimate(given.flow, path)})
    if err.isatty():
        print(file=err)
    total = sum((Decimal(each["cost"]) for each in found), Decimal(0))
    read, written = sum(each["input_tokens"] for each in found), sum(each["output_tokens"] for each in found)
    currency = found[0]["currency"]
    if given.json:
        print_json({"files": found, "cost": f"{total:f}", "currency": currency, "input_tokens": read, "output_tokens": written}, out)
        return 0
    rows = [
        [
            Path(each["file"]).name,
            str(each["input_tokens"]),
            str(each["output_tokens"]),
            each["cost"],
            f"would be refused: {each['refused']}" if each["refused"] else each["unknown"],
        ]
        for each in found
    ]
    table(rows, ["file", "read", "written", f"cost ({currency})", ""], out)
    print(f"\n{len(found)} files would take about {read} tokens read and {written} written: {total.normalize():f} {currency}.", file=out)
    unknown = sum(1 for each in found if each["unknown"])
    if unknown:
        print(f"What {unknown} of them would cost is not known beforehand, and not counted.", file=out)
    return 0
