"""What the measurements work on: one-page invoices with their right answers, a model that answers at once, a service."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from metrikon.client import Client
from metrikon.core.values.exact import dumps
from metrikon.demo import scenario
from metrikon.demo.bills import right_record
from metrikon.demo.garden import FERNHILL, SMALL
from metrikon.demo.invent import drawn
from metrikon.demo.layout import Layout


def invoices(folder: Path, count: int) -> dict[str, bytes]:
    """`count` invoices of one page as files; their right records as JSON by number."""
    from datetime import date
    from decimal import Decimal

    from metrikon.demo.bills import Bill

    folder.mkdir(parents=True, exist_ok=True)
    answers: dict[str, bytes] = {}
    look = Layout()
    base = Bill(FERNHILL, "B-0", date(2026, 3, 4), (*SMALL, *SMALL), "GBP", Decimal(20), due=date(2026, 4, 3), order="EBG-311")
    for number in range(count):
        bill = replace(base, number=f"B-{10000 + number}")
        (folder / f"{number:05}.pdf").write_bytes(drawn(bill, look))
        answers[bill.number] = dumps(right_record(bill, look.columns))
    return answers


class QuickModel:
    """A model server that knows the answers; its own time is counted, so that it can be told apart."""

    def __init__(self, answers: dict[str, bytes], wait: float = 0.0) -> None:
        self.seconds, self.calls, self.most = 0.0, 0, 0
        now, lock, outer = [0], threading.Lock(), self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"
            disable_nagle_algorithm = True

            def log_message(self, *_: Any) -> None: ...

            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                start = time.perf_counter()
                with lock:
                    now[0] += 1
                    outer.calls += 1
                    outer.most = max(outer.most, now[0])
                at = body.rfind(b"B-1")
                content = answers[body[at : at + 7].decode()].decode()
                if wait:
                    time.sleep(wait)
                payload = json.dumps({"choices": [{"message": {"content": content}}], "usage": {"prompt_tokens": 1, "completion_tokens": 1}}).encode()
                with lock:
                    now[0] -= 1
                    outer.seconds += time.perf_counter() - start
                self.send_response(200)
                self.send_header("Content-Length", str(len(payload)))
                self.end_headers()
                self.wfile.write(payload)

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self._server.request_queue_size = 128
        self.url = f"http://127.0.0.1:{self._server.server_address[1]}/v1"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def stop(self) -> None:
        self._server.shutdown()
        self._server.server_close()


def table_flow() -> str:
    """The demo's flow, writing to the database table alone."""
    lines = scenario.flow_text().splitlines()
    first = next(n for n, line in enumerate(lines) if "name: ledger_row" in line)
    second = next(n for n, line in enumerate(lines) if "name: table_row" in line)
    columns = [line.replace("&columns", "") for line in lines[first:second]]
    lines = [line.replace("settled: 0.5", "settled: 0") for line in lines]  # files come whole: nobody waits for them
    return "\n".join(lines[:first] + [line.replace("to: workbook", "to: table").replace("ledger_row", "table_row") for line in columns]) + "\n"


class Service:
    """A service in a process of its own."""

    def __init__(self, home: Path, model_url: str = "", **settings: str) -> None:
        self.home = home
        environment = {**os.environ, **{f"METRIKON_{name.upper()}": value for name, value in settings.items()}}
        command = [sys.executable, "-m", "metrikon.cli", "serve", "--home", str(home), "--port", "0"]
        command += ["--model-url", model_url, "--model", "bench"] if model_url else []
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, env=environment)
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        local = json.loads((home / "local.json").read_text("utf-8"))
        assert line.startswith("Metrikon is ready"), line
        self.client = Client(local["url"], local["token"])
        self.client.put_record_type("invoice", scenario.invoice_type())
        self.client.put_flow(scenario.FLOW, table_flow())

    def drop(self, folder: Path) -> None:
        """Put files into the watched folder, all at once."""
        target = self.home / "invoices"
        if target.exists():
            for path in folder.glob("*.pdf"):
                os.link(path, target / path.name)
        else:
            os.rename(folder, target)

    def settled(self) -> int:
        import sqlite3

        with sqlite3.connect(f"file:{self.home / 'metrikon.db'}?mode=ro", uri=True) as connection:
            return int(connection.execute("SELECT count(*) FROM runs WHERE state = 'done'").fetchone()[0])

    def wait(self, count: int, seconds: float = 900) -> None:
        end = time.monotonic() + seconds
        while self.settled() < count:
            if time.monotonic() > end:
                raise TimeoutError(f"{self.settled()} of {count} runs done")
            time.sleep(0.1)  # the look itself takes from the machine that is measured

    def stop(self) -> None:
        self.client.close()
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(60)
        assert self.process.stdout is not None
        self.process.stdout.close()
