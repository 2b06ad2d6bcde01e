"""The command line. Each command is a small module: its options, and what it does with injected streams.

Exit codes: 0 done; 1 it did not work, the message says why; 2 wrong usage, or a file that cannot be
read; 3 a person must look; 4 the service cannot be reached.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from typing import TextIO

from metrikon import __version__
from metrikon.cli import (
    connections,
    demo,
    documents,
    intakes,
    items,
    judgements,
    judging,
    keeping,
    language,
    lists,
    models,
    people,
    reading,
    records,
    sandbox,
    service,
    setup,
    trial,
    ways,
)
from metrikon.cli.common import CommandFailed
from metrikon.client import ClientError, NotAllowed, Unreachable

EPILOG = """exit codes:
  0  done
  1  it did not work; the message says why and what to do
  2  wrong usage, or a file that cannot be read
  3  a person must look at the result
  4  the service cannot be reached

examples:
  metrikon demo                                     start the demo and open the console
  metrikon extract bill.pdf --record-type invoice.json
  metrikon upload bill.pdf --flow supplier-invoices --wait
  metrikon records list --state waits
"""


def parser() -> argparse.ArgumentParser:
    """The whole command line."""
    top = argparse.ArgumentParser(
        prog="metrikon",
        description="Documents in, checked rows out: every value with its evidence, every row written once.",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--version", action="version", version=f"metrikon {__version__}")
    commands = top.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for room in (
        demo,
        service,
        people,
        reading,
        documents,
        judging,
        judgements,
        trial,
        items,
        records,
        models,
        keeping,
        connections,
        ways,
        intakes,
        sandbox,
        lists,
        language,
        setup,
    ):
        room.add(commands)
    return top


def main(arguments: Sequence[str] | None = None, out: TextIO | None = None, err: TextIO | None = None) -> int:
    """Run a command; the exit code."""
    out, err = out or sys.stdout, err or sys.stderr
    given = parser().parse_args(arguments)
    try:
        return int(given.run(given, out, err))
    except CommandFailed as error:
        print(f"metrikon: {error}", file=err)
        return error.code
    except Unreachable as error:
        print(f"metrikon: {error}", file=err)
        return 4
    except NotAllowed as error:
        print(f"metrikon: {error} Give --token, or set METRIKON_TOKEN.", file=err)
        return 1
    except ClientError as error:
        print(f"metrikon: {error}", file=err)
        return 1
    except BrokenPipeError:
        return 0
    except KeyboardInterrupt:
        return 130
