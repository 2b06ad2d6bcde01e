"""Command lines told what is wrong with them in our words: what is not known, what is meant, where to look."""

from __future__ import annotations

import argparse
import re
from collections.abc import Sequence
from typing import Any, NoReturn

from metrikon.core.values.near import meant

MOST_NAMED = 12  # choices that are all named; of more the help tells
_MISSING = re.compile(r"the following arguments are required: (.+)")
_NO_NUMBER = re.compile(r"argument ([^:]+): invalid (?:int|float) value: '(.*)'")
_ONE_OF = re.compile(r"one of the arguments (.+) is required")


class Words(argparse.ArgumentParser):
    """Reads a command line."""

    def error(self, message: str) -> NoReturn:
        """Say what is wrong, and where the help is; exit with 2."""
        told = _in_our_words(message)
        used = f" It is used so: {self._used()}." if _MISSING.fullmatch(message) and not self._branches() else ""
        self.exit(2, f"{self.prog}: {told}{used} `{self.prog} --help` tells more.\n")

    def _branches(self) -> bool:
        """Whether commands stand below it."""
        return any(isinstance(action, argparse._SubParsersAction) for action in self._actions)

    def _used(self) -> str:
        """The command with all that it must be given."""
        wanted = [each for each in self._actions if each.required]
        words = [
            f"{each.option_strings[-1]} {each.metavar or each.dest.upper()}" if each.option_strings else str(each.metavar or each.dest).upper()
            for each in wanted
        ]
        return " ".join([self.prog, *words])

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> tuple[Any, list[str]]:
        """As argparse does it; what a command does not take is told where that command is known."""
        found, rest = super().parse_known_args(args, namespace)
        if rest and not self._branches():
            self.error(self._not_taken(rest))
        return found, rest

    def _not_taken(self, rest: Sequence[str]) -> str:
        first = rest[0].partition("=")[0]
        options = [option for action in self._actions for option in action.option_strings if option.startswith("--")]
        if first.startswith("-"):
            return f"It takes no {first}{meant(first, options)}"
        places = [action for action in self._actions if not action.option_strings]
        told = ", ".join(str(action.metavar or action.dest).upper() for action in places) or "no words besides its options"
        return f"It does not take {first!r}: it takes {told}."

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        """As argparse does it, in our words. Raises `ArgumentError`."""
        if action.choices is None or value in action.choices:
            return
        choices = [str(each) for each in action.choices]
        if isinstance(action, argparse._SubParsersAction):
            what = "command" if self.prog.count(" ") == 0 else "action"
            known = f" Known: {', '.join(choices)}." if len(choices) <= MOST_NAMED else ""
            self.error(f"There is no {what} {value!r}{meant(str(value), choices)}{known}")
        name = action.option_strings[-1] if action.option_strings else str(action.metavar or action.dest)
        self.error(f"{name} is one of {', '.join(choices)}, and {value!r} is none of them{meant(str(value), choices)}")


def _in_our_words(message: str) -> str:
    """What argparse says, as one would say it."""
    if found := _MISSING.fullmatch(message):
        return f"It wants {found[1]} as well."
    if found := _ONE_OF.fullmatch(message):
        return f"It wants one of {', '.join(found[1].split())}."
    if found := _NO_NUMBER.fullmatch(message):
        return f"{found[1].split('/')[-1]} takes a number, and {found[2]!r} is none."
    return message if message.endswith((".", "?")) else f"{message[:1].upper()}{message[1:]}."
