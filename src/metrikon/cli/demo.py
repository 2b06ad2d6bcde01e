"""demo: the whole house with made-up suppliers, a stand-in model, and a watched folder."""

from __future__ import annotations

import argparse
import logging
import secrets
import shutil
import socket
import sys
import tempfile
import threading
import time
from decimal import Decimal
from pathlib import Path
from typing import Any, TextIO

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.cli.common import print_json, settings_from, table
from metrikon.cli.demo_outside import connect, outside
from metrikon.cli.logs import log_to
from metrikon.cli.service import opened, run_server
from metrikon.demo import scenario
from metrikon.demo.laying import lay
from metrikon.sandbox.model_server import NAME, ModelServer
from metrikon.service.auth import set_password
from metrikon.service.serving import Server
from metrikon.store import listing, people, records

PERSON = "gardener"
SIGN_IN_FILE = "sign-in.txt"
MOVING = ("ready", "running", "waiting")
SANDBOX = 8790  # port of the stand-ins of outside services, or the next free one
LONGEST = 300.0  # seconds that --once waits for all items


def add(commands: Any) -> None:
    """Add the command."""
    parser = commands.add_parser(
        "demo",
        help="start the demo: a botanic garden and its suppliers' invoices",
        description="Start the stand-in model server and the service, take in the demo's invoices, and print the address and the sign-in. "
        "Ctrl-C stops it; the next start finds everything as it was left.",
    )
    parser.add_argument("--home", type=Path, default=None, help="folder of the demo (default demo-data; with --once a new one that is removed again)")
    parser.add_argument("--port", type=int, default=8700, help="port of the service (default 8700, or the next free one)")
    parser.add_argument("--model", choices=("stand-in", "pattern"), default="stand-in", help="who reads the values (default: the stand-in model)")
    parser.add_argument(
        "--once", action="store_true", help="run all items to the end, print how well each was read, and stop; exit 0 when all settled as expected"
    )
    parser.add_argument("--json", action="store_true", help="with --once: print JSON for programs")
    parser.set_defaults(run=run_demo)


def run_demo(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Start the demo."""
    log_to(err, logging.WARNING, "%(levelname)s %(name)s: %(message)s")
    if given.once:
        return _once(given, out)
    home = given.home or Path("demo-data")
    stand_in = _stand_in(given.model)
    try:
        with outside(_free_port(SANDBOX)) as services:
            app = opened(_settings(home, _free_port(given.port), stand_in))
            password = _prepare(app)
            _requests(app)
            form = _rounds(app)
            _report(app)
            connect(app, services)
            if stand_in:
                _judging(app)
            run_server(app, lambda server: _greet(app, server, password, form, services.url, out))
    finally:
        if stand_in:
            stand_in.stop()
    print("\nStopped. Everything is kept; `metrikon demo` goes on where it was left.", file=out)
    return 0


def _stand_in(model: str) -> ModelServer | None:
    return ModelServer(recordings=scenario.post_folder()).start() if model == "stand-in" else None


def _settings(home: Path, port: int, stand_in: ModelServer | None) -> Settings:
    url = stand_in.url if stand_in else ""
    prices = {"price_in": Decimal("0.20"), "price_out": Decimal("0.80")} if stand_in else {}  # made up
    return settings_from(
        home=home,
        port=port,
        model_url=url,
        model_name=NAME if stand_in else "",
        model_label=NAME if stand_in else "",
        transcription_url=url,
        fetch_private=True,  # the stand-ins of outside services are on this machine
        **prices,
    )


def _free_port(wanted: int) -> int:
    """The port asked for, or the next free one after it."""
    for port in range(wanted, wanted + 20):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    return 0


def _prepare(app: App) -> str:
    """Record type, flow, person and files; what is there already stays. The password is returned."""
    app.catalog.put_record_type("invoice", scenario.invoice_type())
    app.catalog.put_flow(scenario.flow_text())
    _drop(app, again=False)
    path = app.home / SIGN_IN_FILE
    with app.database.reading() as connection:
        known = people.password_hash(connection, PERSON)
    if known and path.exists():
        return path.read_text("utf-8").strip()
    password = secrets.token_urlsafe(9)
    set_password(app, PERSON, password)
    path.touch(0o600)
    path.write_text(password + "\n", "utf-8")
    return password


def _requests(app: App) -> None:
    """The second flow: order requests, a decision table, questions at the desk."""
    kind, table, flow = scenario.requests_texts()
    app.catalog.put_record_type("order_request", kind)
    app.catalog.put_decision_table(table)
    app.catalog.put_flow(flow)
    lay(app.home / "requests", scenario.requests())


def _rounds(app: App) -> str:
    """The flow of notes that are sent by a form; the address of the form, after that of the service."""
    app.catalog.put_flow(scenario.rounds_flow())
    flow = app.catalog.newest_flow(scenario.ROUNDS)
    return f"/form/{app.addresses.address(flow, flow.intakes[0])}"


def _judging(app: App) -> None:
    """The flows that it takes a model for: calls to the visitor line, applications, price lists."""
    for name in (scenario.CALLS, scenario.POST, scenario.LISTS):
        app.catalog.put_flow(scenario.flow(name))
    lay(app.home / "calls", scenario.calls())
    lay(app.home / "applications", scenario.letters())
    lay(app.home / "prices", scenario.price_lists("2026-03"))


def _report(app: App) -> None:
    """The flow of the month's report, with its template."""
    flow, name, template = scenario.report()
    place = app.home / "templates" / name
    if not place.exists():
        place.parent.mkdir(exist_ok=True)
        place.write_bytes(template)
    app.catalog.put_flow(flow)


def _drop(app: App, *, again: bool) -> None:
    """Put the demo's files into the watched folder, each whole at once; with `again` those that repeat an earlier one."""
    folder = app.home / "invoices"
    folder.mkdir(exist_ok=True)
    for each in scenario.expected():
        target = folder / each.name
        if not target.exists() and (scenario.AGAIN in each.name) == again:
            aside = folder / f".{each.name}"
            aside.write_bytes(scenario.document(each.name))
            aside.rename(target)


def _drop_again(app: App) -> None:
    """A repeat comes when what it repeats has been written, and a price list when the one before it is kept."""
    first = sum(1 for each in scenario.expected() if scenario.AGAIN not in each.name)
    for _ in range(600):
        if app.engine.stopping:
            return
        with app.database.reading() as connection:
            counts = listing.state_counts(connection)
        if sum(counts.values()) >= first and not any(counts.get(state) for state in MOVING):
            break
        time.sleep(0.2)
    _drop(app, again=True)
    if (app.home / "prices").exists():
        lay(app.home / "prices", scenario.price_lists("2026-04"))


def _greet(app: App, server: Server, password: str, form: str, services: str, out: TextIO) -> None:
    print(f"Console   {server.url}", file=out)
    print(f"Sign in   {PERSON}", file=out)
    print(f"Password  {password}", file=out)
    print(f"A form    {server.url}{form}", file=out)
    print(f"Services  {services} (stand-ins: contacts and tasks, a chat, an old accounting program)", file=out)
    print(f"Speech    {_ears(app)}", file=out)
    print(f"Rows go to {app.home / 'ledger.xlsx'} and the table invoice_lines in {app.home / 'ledger.db'}.", file=out)
    print(
        f"Values are read by {app.default_model}{' (at a made-up price)' if app.default_model == NAME else ''}. More files: put them into {app.home / 'invoices'}. Ctrl-C stops.",
        file=out,
        flush=True,
    )
    threading.Thread(target=_drop_again, args=(app,), daemon=True).start()
    threading.Thread(target=_progress, args=(app, out), daemon=True).start()


def _ears(app: App) -> str:
    """What hears the recordings of the demo."""
    folder = app.settings.transcription_folder
    if folder:
        return f"recordings are heard here, by the model in {folder}"
    return "a stand-in gives the words of the demo's recordings; for a model of your own: make speech, and METRIKON_TRANSCRIPTION_FOLDER"


def _progress(app: App, out: TextIO) -> None:
    """Say what became of the demo's items until nothing moves any more."""
    last, wanted = "", sum(1 for _ in scenario.expected()) + sum(1 for _ in scenario.requests())
    for _ in range(600):
        if app.engine.stopping:
            return
        with app.database.reading() as connection:
            counts = listing.state_counts(connection)
        line = _sentence(counts)
        if counts and line != last:
            if sys.stdout.isatty() and last:
                print("\x1b[1A\x1b[2K", end="", file=out)
            print(line, file=out, flush=True)
            last = line
        if sum(counts.values()) >= wanted and not any(counts.get(state) for state in MOVING):
            return
        time.sleep(0.5)


def _sentence(counts: dict[str, int]) -> str:
    words = (
        ("{} came", sum(counts.values())),
        ("{} written", counts.get("done", 0)),
        ("{} wait for you", counts.get("review", 0) + counts.get("held", 0)),
        ("{} parked", counts.get("parked", 0)),
        ("{} with nothing to write", counts.get("stopped", 0)),
        ("{} refused", counts.get("refused", 0)),
        ("{} under way", counts.get("ready", 0) + counts.get("running", 0) + counts.get("waiting", 0)),
    )
    return ", ".join(text.format(count) for text, count in words if count) + "."


def _once(given: argparse.Namespace, out: TextIO) -> int:
    """Run all items to the end and tell how well it went."""
    home = given.home or Path(tempfile.mkdtemp(prefix="metrikon-demo-"))
    stand_in = _stand_in(given.model)
    try:
        app = opened(_settings(home, 0, stand_in))
        try:
            _prepare(app)
            app.start()
            start = time.monotonic()
            threading.Thread(target=_drop_again, args=(app,), daemon=True).start()
            _wait(app, start + LONGEST)
            results = _results(app)
            seconds = time.monotonic() - start
        finally:
            app.close()
    finally:
        if stand_in:
            stand_in.stop()
        if given.home is None:
            shutil.rmtree(home, ignore_errors=True)
    good = all(each["as_expected"] for each in results)
    if given.json:
        print_json({"as_expected": good, "seconds": round(seconds, 1), "documents": results}, out)
    else:
        _tell(results, good, seconds, out)
    return 0 if good else 1


def _wait(app: App, end: float) -> None:
    wanted = sum(1 for _ in scenario.expected())
    while time.monotonic() < end:
        with app.database.reading() as connection:
            counts = listing.state_counts(connection)
        if sum(counts.values()) >= wanted and not any(counts.get(state) for state in MOVING):
            return
        time.sleep(0.2)


def _results(app: App) -> list[dict[str, Any]]:
    found = []
    with app.database.reading() as connection:
        items = {row["name"]: row for row in listing.item_page(connection, most=500).rows}
        for each in scenario.expected():
            item = items.get(each.name)
            record = records.get(connection, item["record_id"]) if item and item["record_id"] else None
            score = scenario.score(each.record, record["values"] if record else {})
            state = item["state"] if item else "not taken in"
            as_expected = state == each.outcome and (state != "done" or not score.wrong)
            found.append(
                {
                    "file": each.name,
                    "state": state,
                    "expected": each.outcome,
                    "as_expected": as_expected,
                    "values": score.wanted if each.outcome in ("done", "review") else 0,
                    "right": score.right if each.outcome in ("done", "review") else 0,
                    "completeness": round(score.completeness, 3) if each.outcome in ("done", "review") else None,
                    "not_right": list(score.wrong[:5]) if each.outcome in ("done", "review") else [],
                    "why": (item["reason"] if item else "") if state != "review" else _first(record),
                }
            )
    return found


def _first(record: dict[str, Any] | None) -> str:
    return next((str(each["message"]) for each in (record or {}).get("findings", ())), "")


def _tell(results: list[dict[str, Any]], good: bool, seconds: float, out: TextIO) -> None:
    rows = []
    for each in results:
        share = f"{each['right']}/{each['values']}" if each["values"] else ""
        filled = f"{each['completeness']:.0%}" if each["completeness"] is not None else ""
        mark = "" if each["as_expected"] else f"NOT AS EXPECTED ({each['expected']})"
        rows.append([each["file"], each["state"], filled, share, mark or each["why"]])
    table(rows, ["file", "became", "filled", "right", "why"], out)
    right, values = sum(each["right"] for each in results), sum(each["values"] for each in results)
    print(f"\n{right} of {values} values match the right records; {seconds:.0f} seconds.", file=out)
    print("All settled as expected." if good else "Not all settled as expected.", file=out)
