"""flows check, decision-tables, questions, events: the flow language from the command line."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.kinds import kinds
from metrikon.cli.common import CommandFailed, client, plain, print_json, reaching, table, value_given, when
from metrikon.cli.given import file_text
from metrikon.core.decisions import dmn
from metrikon.core.decisions.model import BadTable, Table, table_from
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Known
from metrikon.core.flows.lines import with_lines
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.flows.verify import not_looked_at, remarks
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from metrikon.core.values.exact import NotJson, loads


def add_check(flows: Any) -> None:
    """Add `flows check`."""
    checking = flows.add_parser(
        "check",
        help="everything that is wrong with a flow, with line and column",
        description="Tell everything that is wrong with a flow, with line and column; exit 1 when something is. It needs no service: record types "
        "(JSON) and decision tables (YAML) that the flow names are looked for in the folders given with --beside. With --service the service is "
        "asked, which knows all that is kept in it.",
    )
    checking.add_argument("file", type=Path)
    checking.add_argument("--beside", type=Path, action="append", default=[], metavar="FOLDER", help="a folder of record types and decision tables")
    checking.add_argument("--service", action="store_true", help="ask the service")
    reaching(checking)
    checking.set_defaults(run=run_check)
    trying = flows.add_parser(
        "try",
        help="try a flow on a sample or a file: what each step gives, and what would leave the house",
        description="Try a flow on a sample of it, on a file, or on an item that came in. It is read, extracted and decided as in earnest; rows, questions and other "
        "runs are only told. Nothing leaves the house but what is asked of models and fetched.",
    )
    trying.add_argument("flow")
    source = trying.add_mutually_exclusive_group(required=True)
    source.add_argument("--file", type=Path, help="a file")
    source.add_argument("--item", help="an item that came in, by its id")
    source.add_argument("--sample", help="a sample of the flow, by its name")
    trying.add_argument("--recorded", action="store_true", help="ask no model: use answers that were given before, for nothing")
    trying.add_argument("--until", default="", metavar="STEP", help="try no further than this step")
    reaching(trying)
    trying.set_defaults(run=run_try)


def add(commands: Any) -> None:
    """Add the commands."""
    tables = commands.add_parser("decision-tables", help="put, list and ask decision tables").add_subparsers(
        title="decision tables", metavar="ACTION", required=True
    )
    putting = tables.add_parser("put", help="check a decision table (YAML, or DMN XML) and keep it; what it leaves open is told")
    putting.add_argument("file", type=Path)
    reaching(putting)
    putting.set_defaults(run=run_put_table)
    listing = tables.add_parser("list", help="every decision table in its newest version")
    reaching(listing)
    listing.set_defaults(run=run_list_tables)
    exporting = tables.add_parser("export", help="a decision table as DMN 1.5 XML, to the standard output")
    exporting.add_argument("name")
    reaching(exporting)
    exporting.set_defaults(run=run_export_table)
    asking = tables.add_parser("ask", help="what a table decides for given values, and which rules hold")
    asking.add_argument("name")
    asking.add_argument("values", nargs="*", metavar="NAME=VALUE", help="a value in JSON, or a plain text")
    reaching(asking)
    asking.set_defaults(run=run_ask_table)
    questions = commands.add_parser("questions", help="questions of runs that wait for an answer").add_subparsers(
        title="questions", metavar="ACTION", required=True
    )
    open_ones = questions.add_parser("list", help="questions that wait for an answer")
    open_ones.add_argument("--state", default="open", choices=("open", "answered", "closed"), help="those in this state (default open)")
    reaching(open_ones)
    open_ones.set_defaults(run=run_questions)
    answering = questions.add_parser("answer", help="answer a question; its run goes on")
    answering.add_argument("id")
    answering.add_argument("option")
    answering.add_argument("--comment", default="", help="kept with the answer")
    reaching(answering)
    answering.set_defaults(run=run_answer)
    linking = questions.add_parser("link", help="a signed link by which somebody answers one question without signing in")
    linking.add_argument("id")
    linking.add_argument("who", help="who answers through it; the answer is kept under this name")
    linking.add_argument("--days", type=float, default=14, help="how long it may be used (default 14)")
    reaching(linking)
    linking.set_defaults(run=run_link)
    events = commands.add_parser("events", help="tell flows that something has happened").add_subparsers(
        title="events", metavar="ACTION", required=True
    )
    sending = events.add_parser("send", help="send an event to a flow: what waits for its key goes on")
    sending.add_argument("flow")
    sending.add_argument("key")
    sending.add_argument("--data", default="null", help="what the flow sees as `event`, in JSON")
    sending.add_argument("--identity", default="", help="sent again under the same identity, it is not taken twice")
    reaching(sending)
    sending.set_defaults(run=run_send)


def run_check(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Check a flow."""
    text, unseen = file_text(given.file), list[str]()
    if given.service:
        with client(given) as service:
            looked = service.look_over_flow(text)
        problems, noted = looked["problems"], looked["remarks"]
    else:
        known = _beside(given.beside)
        flow, found = checked(text, kinds().language, known)
        problems = [each.as_json() for each in found]
        unseen = not_looked_at(flow, known) if flow is not None else []
        noted = [each.as_json() for each in with_lines(remarks(flow, known), text)] if flow is not None else []
    if given.json:
        print_json({"problems": problems, "not_looked_at": unseen, "remarks": noted}, out)
        return 1 if problems else 0
    for each in problems:
        step = f"step {each['step']}, " if each["step"] else ""
        print(
            f"{given.file}:{each['line']}:{each['column']}: {step}{each['place']}: {each['message']}".replace(", :", ":").replace(": :", ":"),
            file=out,
        )
    for each in noted:
        print(f"{given.file}:{each['line']}:{each['column']}: step {each['step']}, {each['place']}: a remark: {each['message']}", file=out)
    count = len(problems)
    if unseen:
        print(f"Not known here, so that nothing that rests on it was looked at: {', '.join(unseen)}.", file=out)
        print("Check it with --service, which knows what is kept, or give the folder of these files with --beside.", file=out)
    nothing = "Nothing else is wrong with it." if unseen else "Nothing is wrong with it."
    print(nothing if not count else f"{count} problem{'s' if count > 1 else ''}.", file=out)
    return 1 if problems else 0


def run_try(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Try a flow."""
    if given.file is not None and not given.file.is_file():
        raise CommandFailed(f"{given.file} is no file.", 2)
    with client(given) as service:
        found = service.try_flow(given.flow, given.file, item=given.item or "", sample=given.sample or "", until=given.until, recorded=given.recorded)
    if given.json:
        print_json(found, out)
        return 0
    for each in found["steps"]:
        print(f"{each['path']}: {each['sentence']}", file=out)
        if each["would"]:
            print(f"    {each['would']}", file=out)
        shown = each["values"].get("columns") or each["values"].get("show") or {} if each["would"] else _brief(each["result"])
        for name, value in shown.items():
            print(f"    {name}: {plain(value) if not isinstance(value, list | dict) else f'{len(value)} of them'}", file=out)
    print(f"It stands: {found['stands']}.{' ' + found['reason'] if found['reason'] else ''}", file=out)
    for told in found["told"]:
        print(told, file=out)
    return 0


def _brief(result: Any) -> dict[str, Any]:
    """Of a result what a person reads: the values of a record, or its plain values."""
    if not isinstance(result, dict):
        return {}
    record = result.get("record")
    inner: dict[str, Any] = record if isinstance(record, dict) else result
    return {name: value for name, value in inner.items() if value not in (None, [], {}) and not _dull(value)}


def _dull(value: Any) -> bool:
    """Ids, hashes, and texts too long for a line: nothing that a person reads."""
    return isinstance(value, str) and (len(value) > 120 or bool(re.fullmatch(r"[0-9a-f]{64}|[0-9a-z]{26}", value)))


def _beside(folders: list[Path]) -> Known:
    """What folders hold of record types and decision tables; with none, names that a flow uses are not looked up."""
    types: dict[str, RecordType] = {}
    tables: dict[str, Table] = {}
    for folder in folders:
        if not folder.is_dir():
            raise CommandFailed(f"{folder} is no folder.", 2)
        for path in sorted(folder.iterdir()):
            try:
                if path.suffix == ".json":
                    types[path.stem] = record_type(loads(path.read_bytes()), path.stem)
                elif path.suffix in (".yaml", ".yml") and "decision:" in path.read_text("utf-8", "replace"):
                    made = table_from(from_yaml(path.read_text("utf-8")))
                    tables[made.decision] = made
            except (BadRecordType, BadTable, NotJson, NotYaml, UnicodeDecodeError) as error:
                raise CommandFailed(f"{path}: {error}", 2) from error
    return Known(types, frozenset(), tables, whole=False)


def run_show(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Show a flow as sentences."""
    with client(given) as service:
        found = service.flow(given.name)
    if given.json:
        print_json(found, out)
        return 0
    state = "paused" if found["paused"] else "on" if found["running"] else "off"
    print(f"{found['name']}, version {found['version']}, {state}", file=out)
    print(f"In: {'; '.join(found['comes'])}.  Out: {'; '.join(found['goes']) or 'nothing'}.", file=out)
    for line in found["lines"]:
        more = f" {' '.join(line['more'])}" if line["more"] else ""
        print(f"{'  ' * line['depth']}{line['number'] + ' ' if line['number'] else ''}{line['sentence']}{more}", file=out)
    for each in found["problems"]:
        print(f"Wrong: line {each['line']}, {each['step']} {each['place']}: {each['message']}", file=out)
    for version in found["versions"] if given.versions else ():
        by = f" by {version['put_by']}" if version["put_by"] else ""
        print(f"\nVersion {version['version']}, {when(version['created_at'])}{by}{': ' + version['why'] if version['why'] else ''}", file=out)
        for change in version["changes"]:
            print(f"  {change}", file=out)
    return 0


def run_put_table(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Keep a decision table."""
    text = file_text(given.file)
    name = _name_of_table(text, given.file)
    with client(given) as service:
        kept = service.put_decision_table(name, text)
    if given.json:
        print_json(kept, out)
        return 0
    print(f"Decision table {name} is kept as version {kept['version']}.", file=out)
    for each in kept["open"]:
        print(f"  {each}", file=out)
    return 0


def _name_of_table(text: str, file: Path) -> str:
    """What the table in a file calls itself. Raises `CommandFailed`."""
    try:
        if text.lstrip().startswith("<"):
            return dmn.read(text)[0].decision
        data = from_yaml(text)
    except (BadTable, NotYaml) as error:
        raise CommandFailed(f"{file}: {error}", 2) from error
    name = data.get("decision") if isinstance(data, dict) else None
    if not isinstance(name, str):
        raise CommandFailed(f"{file} is no decision table: it has no `decision` with its name.", 2)
    return name


def run_export_table(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Write a decision table as DMN."""
    with client(given) as service:
        print(service.decision_table_as_dmn(given.name), file=out, end="")
    return 0


def run_list_tables(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List decision tables."""
    with client(given) as service:
        found = service.decision_tables()
    if given.json:
        print_json(found, out)
    elif not found:
        print("There is no decision table yet. Keep one with `metrikon decision-tables put FILE`.", file=out)
    else:
        table(
            [[each["name"], str(each["version"]), each["about"], str(len(each["open"]))] for each in found],
            ["table", "version", "about", "left open"],
            out,
        )
    return 0


def run_ask_table(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Ask a decision table."""
    values = dict(value_given(each) for each in given.values)
    with client(given) as service:
        found = service.decide(given.name, values)
    if given.json:
        print_json(found, out)
        return 0
    outcome = found["outcome"]
    for name, value in outcome.items() if isinstance(outcome, dict) else [("outcome", outcome)]:
        print(
            f"{name}: {'(nothing)' if value is None else ', '.join(plain(each) for each in value) if isinstance(value, list) else plain(value)}",
            file=out,
        )
    rules = ", ".join(str(each) for each in found["rules"])
    missing = f" Without a value: {', '.join(found['missing'])}." if found["missing"] else ""
    print(f"{'By rule ' + rules if rules else 'No rule holds'}.{missing}", file=out)
    return 0


def run_questions(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """List questions."""
    with client(given) as service:
        found = service.questions(state=given.state)
    if given.json:
        print_json(found, out)
    elif not found:
        print("No question waits for an answer." if given.state == "open" else f"No question is {given.state}.", file=out)
    else:
        rows = [[each["id"], when(each["asked_at"]), each["item_name"], each["question"], _options(each)] for each in found]
        table(rows, ["question", "asked", "item", "what is asked", "options" if given.state == "open" else "answer"], out)
    return 0


def _options(question: dict[str, Any]) -> str:
    if question["state"] == "answered":
        return f"{question['answer']} ({question['answered_by']})"
    return ", ".join(each["name"] for each in question["options"])


def run_answer(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Answer a question."""
    with client(given) as service:
        found = service.answer(given.id, given.option, given.comment)
    print_json(found, out) if given.json else print(f"Answered: {found['answer']}. Its run goes on.", file=out)
    return 0


def run_link(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Make a link to a question."""
    with client(given) as service:
        url = service.link_question(given.id, given.who, given.days)
    print_json({"url": url}, out) if given.json else print(url, file=out)
    return 0


def run_send(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Send an event."""
    try:
        data = loads(given.data)
    except NotJson as error:
        raise CommandFailed(f"--data is no JSON: {error}.", 2) from error
    with client(given) as service:
        runs = service.send_event(given.flow, given.key, data, given.identity)
    told = f"{runs} run{' goes' if runs == 1 else 's go'} on." if runs else "No run waits for it; it is kept for the next one that does."
    print_json({"runs": runs}, out) if given.json else print(told, file=out)
    return 0
