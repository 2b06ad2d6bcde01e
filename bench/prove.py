"""`make prove`: what no test has time for. Requests of every kind, files damaged at random, kills at any moment; what it did is in docs/prove.md.

Each part ends when it has done all that is wanted, or when its time is over. `python -m bench.prove PART … --minutes N --small`.
"""

from __future__ import annotations

import argparse
import logging
import os
import platform
import random
import sys
import tempfile
import threading
import time
import warnings
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from bench import hostile
from bench.reading import damaged
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.client import Client
from metrikon.demo import scenario
from metrikon.drivers.reading import ReaderPool
from metrikon.ports.reader import Limits, Refused
from metrikon.service.auth import add_token
from metrikon.service.serving import Server
from tests.fuzzing import Fuzzed, fuzz, operations
from tests.killing import killed
from tests.killing_corrected import killed_corrected
from tests.killing_entered import killed_entered
from tests.killing_out import killed_out

REQUESTS, FILES, KILLS, KILLS_OUT = 20_000, 100_000, 1_000, 300
SHEETS, CLIENTS, SECRETS = 10_000, 10_000, 500
KILLS_ENTERED = 100  # each waits for a browser
LARGE = 90_000  # bytes: pictures and scans, which take seconds each, are few among the files
A_ROUND = 50  # kills, after which all must have settled


@dataclass
class Proof:
    """What a part did: how many of how many, what was wrong, and how long it took (seconds)."""

    name: str
    wanted: int
    done: int = 0
    wrong: list[str] = field(default_factory=list)
    seconds: float = 0.0
    behind: str = ""


def requests(folder: Path, wanted: int, until: float, seed: int) -> Proof:
    """Requests of each operation of the API, half of them of kinds that it forbids, to a service that has items, records and runs."""
    app = App(Settings(home=folder / "home", port=0))
    app.catalog.put_record_type("invoice", scenario.invoice_type())
    app.catalog.put_flow(scenario.flow_text())
    _, token = add_token(app, "prove")
    server = Server(app)
    server.start()
    try:
        with Client(server.url, token) as client:
            sent = client.upload(scenario.FLOW, scenario.document("09-brackendale-wrong-sum.pdf"), name="a.pdf")
            run = client.wait(sent.run_id)
        known = {"name": [scenario.FLOW, "invoice"], "id": [sent.run_id, sent.item_id, str(run.record_id)]}
        each = -(-wanted // max(1, sum(1 for _ in operations(server.url))))
        found = Fuzzed()
        while found.count < wanted and time.monotonic() < until:  # of some operations fewer can be made
            fuzz(server.url, token, each, seed, known, found, lambda: time.monotonic() < until and found.count < wanted)
            seed += 1
    finally:
        server.close()
    told = ", ".join(f"{count:,} × {status}" for status, count in sorted(found.answers.items()))
    return Proof("requests of every kind", wanted, found.count, found.wrong, behind=told)


def files(folder: Path, wanted: int, until: float, seed: int) -> Proof:
    """Real files damaged at random: each is read or refused in words, and ends no process."""
    every = [path for place in (scenario.post_folder(), scenario.folder() / "documents") for path in sorted(place.iterdir())]
    given = [path.read_bytes() for path in every if not path.name.endswith((".right.json", ".said.json"))]
    plain = [data for data in given if len(data) < LARGE]
    proof, lock, pool = Proof("files damaged at random", wanted), threading.Lock(), ReaderPool(os.cpu_count() or 2, Limits(max_pages=60, seconds=60))
    outcomes = {"read": 0, "refused": 0}

    def one(number: int) -> None:
        if time.monotonic() > until:
            return
        dice = random.Random(f"{seed} {number}")
        source = given if number % 200 == 0 else plain
        path = folder / f"{number}.bin"
        path.write_bytes(damaged(dice.choice(source), dice))
        outcome, wrong = "read", ""
        try:
            pool.read_bytes(path)
        except Refused:
            outcome = "refused"
        except Exception as error:
            wrong = f"seed {seed}, file {number}: {type(error).__name__}: {error}"
        path.unlink()
        with lock:
            proof.done += 1
            outcomes[outcome] += not wrong
            proof.wrong += [wrong] if wrong else []

    with ThreadPoolExecutor(os.cpu_count() or 2) as threads:
        for _ in threads.map(one, range(wanted)):
            pass
    pool.close()
    proof.behind = ", ".join(f"{count:,} {what}" for what, count in outcomes.items())
    return proof


def kills(folder: Path, wanted: int, until: float, seed: int) -> Proof:
    """Rounds of kills of the service and its workers over flows of all kinds of step; after each, every row is there once."""
    proof, rows, round_ = Proof("kills at any moment", wanted), 0, 0
    while proof.done < wanted and time.monotonic() < until:
        count = min(A_ROUND, wanted - proof.done)
        ended = killed(folder / f"home-{round_}", seed + round_, count, 12)
        proof.done, rows, round_ = proof.done + count, rows + ended.rows, round_ + 1
        if not ended.whole or ended.values != ended.wanted:
            proof.wrong.append(f"seed {seed + round_ - 1}: {ended.rows} rows, {ended.keys} keys, {ended.unlike} journals unlike")
    proof.behind = f"{rows:,} rows, each once, in {round_} rounds"
    return proof


def kills_out(folder: Path, wanted: int, until: float, seed: int) -> Proof:
    """Rounds of kills while rows go to destinations of every kind; after each, every row is there once, and nothing was repeated unasked where nobody can look."""
    proof, rows, asked, round_, places = Proof("kills while rows go out", wanted), 0, 0, 0, 0
    while proof.done < wanted and time.monotonic() < until:
        count = min(A_ROUND, wanted - proof.done)
        ended = killed_out(folder / f"round-{round_}", seed + round_, count, 40)
        proof.done, rows, asked, round_ = proof.done + count, rows + ended.rows, asked + ended.asked, round_ + 1
        proof.wrong += [f"seed {seed + round_ - 1}: {each}" for each in ended.wrong]
        places = len(ended.held)
    proof.behind = f"{rows:,} rows at {places} destinations, each once, in {round_} rounds; a person was asked of {asked}"
    return proof


def kills_corrected(folder: Path, wanted: int, until: float, seed: int) -> Proof:
    """Rounds of kills while written records are corrected and then taken back; after each kill every row says what its record says."""
    proof, round_ = Proof("kills while records are corrected", wanted), 0
    while proof.done < wanted and time.monotonic() < until:
        ended = killed_corrected(folder / f"home-{round_}", seed + round_, min(A_ROUND, wanted - proof.done) // 2 + 1)
        proof.done, round_ = proof.done + ended.kills, round_ + 1
        proof.wrong += [f"seed {seed + round_ - 1}: {each}" for each in ended.wrong]
    proof.behind = f"in {round_} rounds, half of them while runs are taken back"
    return proof


def kills_entered(folder: Path, wanted: int, until: float, seed: int) -> Proof:
    """Rounds of kills while invoices are typed into a program with a screen; after each, every one is there once, and nothing was repeated unasked."""
    proof, round_, asked, invoices = Proof("kills while invoices are typed into a program", wanted), 0, 0, 0
    while proof.done < wanted and time.monotonic() < until:
        count = min(20, wanted - proof.done)
        ended = killed_entered(folder / f"home-{round_}", seed + round_, count, 10)
        proof.done, round_, asked, invoices = proof.done + count, round_ + 1, asked + ended.asked, invoices + ended.held.total()
        proof.wrong += [f"seed {seed + round_ - 1}: {each}" for each in ended.wrong]
    proof.behind = f"{invoices} invoices, each once, in {round_} rounds; a person was asked of {asked}"
    return proof


def _hostile(name: str, part: Callable[[Path, int, float, int], tuple[int, list[str], str]]) -> Callable[[Path, int, float, int], Proof]:
    """A part that tells how many it did, what was wrong, and what is behind the figure."""

    def run(folder: Path, wanted: int, until: float, seed: int) -> Proof:
        done, wrong, behind = part(folder, wanted, until, seed)
        return Proof(name, wanted, done, wrong, behind=behind)

    return run


PARTS: dict[str, tuple[Callable[[Path, int, float, int], Proof], int]] = {
    "requests": (requests, REQUESTS),
    "files": (files, FILES),
    "kills": (kills, KILLS),
    "kills-out": (kills_out, KILLS_OUT),
    "kills-corrected": (kills_corrected, KILLS_OUT),
    "kills-entered": (kills_entered, KILLS_ENTERED),
    "sheets": (_hostile("sheets and templates damaged and repeated", hostile.sheets), SHEETS),
    "doors": (_hostile("clients that are silent or slow, at each door", hostile.doors), CLIENTS),
    "secrets": (_hostile("secrets looked for wherever they may have come", hostile.all_secrets), SECRETS),
}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", choices=[*PARTS, []], metavar="PART", help=f"any of: {', '.join(PARTS)}")
    parser.add_argument("--minutes", type=float, default=60.0, help="that each part may take (default: 60)")
    parser.add_argument("--small", action="store_true", help="a hundredth of the work, to see that it runs")
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**6))
    given = parser.parse_args()
    warnings.simplefilter("ignore")
    for name in ("werkzeug", "mail.log"):  # the stand-ins need not tell of each request
        logging.getLogger(name).setLevel(logging.ERROR)
    proofs = []
    for name in given.parts or PARTS:
        part, wanted = PARTS[name]
        print(f"{name} (seed {given.seed}) …", flush=True)
        began = time.monotonic()
        with tempfile.TemporaryDirectory(prefix="metrikon-prove-") as folder:
            proof = part(Path(folder), wanted // 100 if given.small else wanted, began + given.minutes * 60, given.seed)
        proof.seconds = time.monotonic() - began
        proofs.append(proof)
        print(f"  {proof.done:,} of {proof.wanted:,}, {len(proof.wrong)} wrong, {proof.seconds:.0f} s; {proof.behind}", flush=True)
        for wrong in proof.wrong[:20]:
            print(f"  {wrong}", flush=True)
    if not given.small:
        _write(Path("docs/prove.md"), proofs, given.seed)
    return 1 if any(proof.wrong for proof in proofs) else 0


def _write(path: Path, proofs: list[Proof], seed: int) -> None:
    """docs/prove.md, with the rows of parts that were not run now as they were."""
    made = f"{date.today().isoformat()}, seed {seed}"
    rows = {line.split("|")[1].strip(): line for line in (path.read_text("utf-8").splitlines() if path.exists() else ()) if line.startswith("| ")}
    for each in proofs:
        figures = f"{each.wanted:,} | {each.done:,} | {len(each.wrong)} | {each.seconds / 60:.0f} | {made}"
        rows[each.name] = f"| {each.name} | {figures} | {each.behind} |"
    rows.pop("what", None)
    lines = [
        "# Proof at length",
        "",
        f"Made by `make prove` ({os.cpu_count()} cores, Python {platform.python_version()}); each part ends when it has done all, or when its time is over. "
        "The tests do the same in short.",
        "",
        "| what | wanted | done | wrong | minutes | when | |",
        "|---|---:|---:|---:|---:|---|---|",
        *rows.values(),
        "",
        *(f"- {wrong}" for each in proofs for wrong in each.wrong[:50]),
    ]
    path.write_text("\n".join(lines).rstrip() + "\n", "utf-8")


if __name__ == "__main__":
    sys.exit(main())
