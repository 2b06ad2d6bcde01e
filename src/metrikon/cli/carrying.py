"""flows copy, export, import, samples: flows with other settings, flows carried elsewhere, and what they are tried on."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed, client, print_json, reaching, table, value_given, when


def add(flows: Any) -> None:
    """Add the commands to those of flows."""
    copying = flows.add_parser("copy", help="copy a flow, with other values of its settings; the copy is switched off")
    copying.add_argument("name")
    copying.add_argument("copy", help="what the copy is called")
    copying.add_argument("--set", action="append", default=[], metavar="SETTING=VALUE", help="a setting that is other than that of the flow")
    copying.add_argument("--why", default="", help="a word why, kept with the copy")
    reaching(copying)
    copying.set_defaults(run=run_copy)
    exporting = flows.add_parser(
        "export",
        help="write a flow with all that it needs, and its samples, to one file",
        description="Write a flow to one file (ZIP), with the flows "
        "that it uses, record types, decision tables, lists and samples. No secret is in it.",
    )
    exporting.add_argument("name")
    exporting.add_argument("file", type=Path, nargs="?", help="default: NAME.zip")
    reaching(exporting)
    exporting.set_defaults(run=run_export)
    importing = flows.add_parser(
        "import",
        help="take over a flow that was exported",
        description="Take over what `flows export` has written: all of it, or nothing. Flows that "
        "are new are switched off; record types and tables that differ become new versions.",
    )
    importing.add_argument("file", type=Path)
    importing.add_argument("--replace", action="store_true", help="put lists that are here and differ in the place of those")
    importing.add_argument("--dry-run", action="store_true", help="only tell what would become of each thing")
    reaching(importing)
    importing.set_defaults(run=run_import)
    listing = flows.add_parser("samples", help="the samples of a flow, and the latest that came in")
    listing.add_argument("name")
    reaching(listing)
    listing.set_defaults(run=run_samples)
    keeping = flows.add_parser("keep-sample", help="keep an item that came in, or a file, as a sample of a flow")
    keeping.add_argument("name")
    keeping.add_argument("sample", help="what the sample is called")
    source = keeping.add_mutually_exclusive_group(required=True)
    source.add_argument("--file", type=Path, help="a file")
    source.add_argument("--item", default="", help="an item that came in, by its id")
    source.add_argument("--remove", action="store_true", help="keep the sample no longer")
    keeping.add_argument("--why", default="", help="why it is kept, such as “two pages, no total”")
    reaching(keeping)
    keeping.set_defaults(run=run_keep)


def run_copy(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Copy a flow."""
    with client(given) as service:
        found = service.copied_flow(given.name, given.copy, dict(value_given(each) for each in given.set), given.why)
    if given.json:
        print_json(found, out)
    else:
        for each in (*found["places"], *found["told"]):
            print(each, file=out)
        for each in found["own"]:
            print(f"Its intake {each} has an address of its own: `metrikon intakes address {given.copy} {each}` makes it.", file=out)
        print(f"Flow {given.copy} is kept as version {found['version']}, switched off. Switch it on with `metrikon flows on {given.copy}`.", file=out)
    return 0


def run_export(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Export a flow."""
    file = given.file or Path(f"{given.name}.zip")
    with client(given) as service:
        data = service.export_flow(given.name)
    try:
        file.write_bytes(data)
    except OSError as error:
        raise CommandFailed(f"{file} cannot be written: {error.strerror}.", 2) from error
    told = {"file": str(file), "bytes": len(data)}
    print_json(told, out) if given.json else print(f"{given.name} is in {file} ({len(data)} bytes).", file=out)
    return 0


def run_import(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Import a flow."""
    if not given.file.is_file():
        raise CommandFailed(f"There is no file {given.file}.", 2)
    with client(given) as service:
        found = service.import_flow(given.file, replacing=given.replace, trying=given.dry_run)
    if given.json:
        print_json(found, out)
        return 0
    table([[each["what"], each["name"], each["becomes"]] for each in found], ["what", "name", "would become" if given.dry_run else "became"], out)
    return 0


def run_samples(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List samples."""
    with client(given) as service:
        found = service.samples(given.name)
    if given.json:
        print_json(found, out)
        return 0
    if found["items"]:
        table([[each["name"], each["file_name"], each["why"]] for each in found["items"]], ["sample", "file", "why"], out)
    else:
        print(f"{given.name} has no sample yet. Keep one with `metrikon flows keep-sample {given.name} NAME --item ITEM`.", file=out)
    if found["candidates"]:
        print("\nThe latest that came in:", file=out)
        table(
            [[each["id"], when(each["received_at"]), each["intake"], each["name"]] for each in found["candidates"]],
            ["item", "came in", "by", "file"],
            out,
        )
    return 0


def run_keep(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a sample, or keep it no longer."""
    if given.file is not None and not given.file.is_file():
        raise CommandFailed(f"There is no file {given.file}.", 2)
    with client(given) as service:
        if given.remove:
            service.remove_sample(given.name, given.sample)
        else:
            service.keep_sample(given.name, given.sample, given.file, item=given.item, why=given.why)
    told = "is kept no longer" if given.remove else f"is kept; try it with `metrikon flows try {given.name} --sample {given.sample}`"
    print_json({"flow": given.name, "sample": given.sample}, out) if given.json else print(f"Sample {given.sample} {told}.", file=out)
    return 0
