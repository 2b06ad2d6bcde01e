"""The states of a delivery, and how it moves from one to another: one table for rows, files, mails, messages, calls and entries alike.

A move that is not in the table does not happen: what the store changes, it changes only where the table has a move from the state that stands there.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, get_args

State = Literal[
    "shown",  # waits until a person has looked at the first row of a version of its flow
    "entered",  # to be handed over
    "sending",  # handed over, its end not known yet
    "written",  # it is there as it was sent
    "there",  # it was there already, with the same values, or nothing had to be written
    "otherwise",  # its key is there with other values
    "unsure",  # nobody can tell whether it is there: a person must look
    "failed",  # given up
    "corrected",  # another delivery has taken its place: its row has another key now
    "returning",  # to be taken back
    "taken back",  # it is there no longer
]
Move = Literal[
    "enter", "show", "enter again", "show again", "begin", "ask again", "ask about", "hand over", "written", "found there", "found otherwise", "lost", "put off", "fail", "still there", "seen there", "kept",
    "correct", "take back", "gone", "not taken back", "held back", "restored",
]  # fmt: skip
STATES: tuple[State, ...] = get_args(State)
MOVES: Mapping[Move, Mapping[State | None, State]] = {
    "enter": {None: "entered", "failed": "entered", "corrected": "entered", "taken back": "entered"},
    "show": {None: "shown", "failed": "shown", "corrected": "shown", "taken back": "shown"},
    "enter again": dict.fromkeys(("shown", "entered", "sending", "unsure", "failed", "otherwise"), "entered"),  # by its own step
    "show again": dict.fromkeys(("shown", "entered", "sending", "unsure", "failed", "otherwise"), "shown"),
    "begin": dict.fromkeys((None, "failed", "corrected", "taken back", "sending", "unsure", "written"), "sending"),  # what is no row
    "ask again": {"unsure": "sending"},  # another step wants a row of which nobody can tell: it is put before a person again
    "ask about": dict.fromkeys(("sending", "unsure"), "unsure"),  # what a run has left that is over
    "hand over": {"entered": "sending", "sending": "sending"},
    "written": {"entered": "written", "sending": "written"},
    "found there": {"entered": "there", "sending": "there"},
    "found otherwise": {"entered": "otherwise", "sending": "otherwise"},
    "lost": {"entered": "unsure", "sending": "unsure"},
    "put off": {"entered": "entered", "sending": "entered", "returning": "returning"},
    "fail": {"entered": "failed", "sending": "failed", "shown": "failed"},
    "still there": {"sending": "written"},  # another run was to take it over, and could not
    "seen there": {"unsure": "written"},
    "kept": {"otherwise": "there"},
    "correct": {"written": "corrected", "there": "corrected"},
    "take back": {"written": "returning", "corrected": "returning"},  # a corrected one waits until that which took its place is gone
    "gone": {"returning": "taken back", "corrected": "taken back"},  # a corrected one goes with that which took its place
    "not taken back": {"returning": "written"},
    "held back": {"returning": "corrected"},  # what took its place stays
    "restored": {"corrected": "written"},
}
FREE: tuple[State, ...] = ("failed", "corrected", "taken back")  # whoever wants a key that stands so enters it anew
ENDED: tuple[State, ...] = ("written", "there", "otherwise")  # its key is there
DUE: tuple[State, ...] = ("entered", "returning")  # its destination is to be asked
Purpose = Literal[
    "write", "set", "look", "move", "restore"
]  # a new row; columns of one that is there; what is there; another key and other values for one that is there; values of one that was marked as taken back


class NoSuchMove(ValueError):
    """A delivery cannot move so from where it stands."""


def moved(state: State | None, move: Move) -> State:
    """Where a delivery stands after a move; None is one that nobody has entered. Raises `NoSuchMove`."""
    found = MOVES[move].get(state)
    if found is None:
        raise NoSuchMove(f"A delivery that is {state or 'not entered'} has no move {move!r}.")
    return found


def sources(move: Move) -> tuple[State, ...]:
    """The states from which a move goes."""
    return tuple(state for state in MOVES[move] if state is not None)


def target(move: Move) -> State:
    """Where a move leads, from wherever it goes. Raises `NoSuchMove` for one that leads to several states."""
    found = set(MOVES[move].values())
    if len(found) > 1:
        raise NoSuchMove(f"The move {move!r} leads to several states.")
    return found.pop()
