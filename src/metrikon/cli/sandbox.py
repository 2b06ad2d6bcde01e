"""sandbox: the simulated outside services, to try flows by hand."""

from __future__ import annotations

import argparse
import logging
from typing import Any, TextIO

from metrikon.cli.common import CommandFailed
from metrikon.sandbox.services import Services


def add(commands: Any) -> None:
    """Add the command."""
    found = commands.add_parser(
        "sandbox",
        help="run the simulated outside services: a chat, a call service, recruiting, recordings, a calendar, a sheet",
        description="Run stand-ins of outside services on this machine, for trying flows by hand. Each has a page that shows what it holds, with buttons that "
        "send one thing; the first page makes them fail: busy, in error, slow, cut off, an answer that is lost, what is sent twice.",
    )
    found.add_argument("--port", type=int, default=8790, help="port (default: 8790)")
    found.set_defaults(run=run)


def run(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Run them."""
    logging.getLogger("werkzeug").setLevel(logging.WARNING)
    try:
        services = Services(port=given.port)
    except (OSError, SystemExit) as error:
        raise CommandFailed(f"Port {given.port} cannot be used; is something else there? Give another one with --port.", 1) from error
    print(f"Stand-ins of outside services: {services.url} (Ctrl-C ends them)", file=out, flush=True)
    try:
        services.run()
    except KeyboardInterrupt:
        services.stop()
    return 0
