"""The command line. Each command is a small module: its options, and what it does with injected streams.

Exit codes: 0 done; 1 it did not work, the message says why; 2 wrong usage, or a file that cannot be
read; 3 a person must look; 4 the service cannot be reached.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import TextIO

from metrikon import __version__
from metrikon.cli.given import CommandFailed
from metrikon.cli.words import Words
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


ROOMS = {  # the module of each command, in the order in which they are listed
    "demo": "demo",
    "serve": "service",
    "people": "people",
    "tokens": "people",
    "places": "people",
    "read": "reading",
    "extract": "documents",
    "classify": "judging",
    "judge": "judging",
    "compare": "judging",
    "judgements": "judgements",
    "trial": "trial",
    "upload": "items",
    "runs": "items",
    "records": "records",
    "models": "models",
    "calls": "models",
    "estimate": "models",
    "keeping": "keeping",
    "forget": "keeping",
    "connections": "connections",
    "ways": "ways",
    "intakes": "intakes",
    "sandbox": "sandbox",
    "lists": "lists",
    "decision-tables": "language",
    "questions": "language",
    "events": "language",
    "flows": "setup",
    "record-types": "setup",
    "settings": "setup",
}


THINGS = {  # what the commands of a group speak of
    "people": "person",
    "tokens": "token",
    "places": "place",
    "judgements": "judgement",
    "runs": "run",
    "records": "record",
    "calls": "call",
    "connections": "connection",
    "ways": "way in",
    "lists": "list",
    "decision-tables": "decision table",
    "questions": "question",
    "flows": "flow",
    "record-types": "record type",
}
SAID = {  # what an argument is, where its command says nothing of it
    "id": "the {thing}, by its id as lists show it",
    "run_id": "the run, by its id as lists show it",
    "name": "the {thing}, by its name",
    "file": "the file",
    "flow": "the flow, by its name",
    "place": "the place, as `metrikon places list` shows it",
    "role": "what they may do",
    "record_type": "only records of this type",
    "most": "how many at most",
    "comment": "a word why, kept with it",
    "option": "the answer, by its name",
    "key": "the key that the flow waits for",
    "host": "the address that it listens on",
    "port": "the port that it listens on; 0 for any that is free",
}


def parser(first: str = "") -> argparse.ArgumentParser:
    """The whole command line; or, by its first word, the part that this needs, so that a command loads no more than its own."""
    top = Words(
        prog="metrikon",
        description="Documents in, checked rows out: every value with its evidence, every row written once.",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--version", action="version", version=f"metrikon {__version__}")
    commands = top.add_subparsers(title="commands", metavar="COMMAND", required=True)
    wanted = [ROOMS[first]] if first in ROOMS else [] if first == "--version" else dict.fromkeys(ROOMS.values())
    for name in wanted:
        import_module(f"metrikon.cli.{name}").add(commands)
    for name, below in commands.choices.items():
        _explain(below, THINGS.get(name, "thing"))
    return top


def _explain(found: argparse.ArgumentParser, thing: str) -> None:
    """Say of arguments that say nothing themselves what they are: all commands of a group speak of the same kind of thing."""
    for action in found._actions:
        if isinstance(action, argparse._SubParsersAction):
            for below in action.choices.values():
                _explain(below, thing)
        elif action.help is None:
            action.help = SAID.get(action.dest, "").format(thing=thing)


def main(arguments: Sequence[str] | None = None, out: TextIO | None = None, err: TextIO | None = None) -> int:
    """Run a command; the exit code."""
    out, err = out or sys.stdout, err or sys.stderr
    words = sys.argv[1:] if arguments is None else arguments
    given = parser(words[0] if words else "").parse_args(words)
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
