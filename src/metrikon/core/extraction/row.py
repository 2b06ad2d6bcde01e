"""The row of stages that a reading goes through, from the texts of answers to a record that is settled. Reading it is reading the order.

Each stage takes a frozen state and gives a new one; none asks anything. One of the last says what is to be asked next; when the answers
are there, the whole row is gone through again, so that the same answers give the same reading, also after a kill.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from metrikon.core.extraction.deciding.asking_next import ask_next
from metrikon.core.extraction.deciding.mending import mend
from metrikon.core.extraction.deciding.naming import name_files
from metrikon.core.extraction.deciding.suggesting import suggest
from metrikon.core.extraction.deciding.trust import trust
from metrikon.core.extraction.doubting.checking import check
from metrikon.core.extraction.doubting.instead import set_beside
from metrikon.core.extraction.doubting.inventions import leave_out_inventions
from metrikon.core.extraction.doubting.row import doubt
from metrikon.core.extraction.doubting.takenback import take_back
from metrikon.core.extraction.doubting.unnamed import leave_out_unnamed
from metrikon.core.extraction.grounding.completing import complete
from metrikon.core.extraction.grounding.derived import derive
from metrikon.core.extraction.grounding.digits import print_digits
from metrikon.core.extraction.grounding.grounding import ground_all
from metrikon.core.extraction.grounding.retyped import retype
from metrikon.core.extraction.parsing.answers import parse
from metrikon.core.extraction.planning.facts_first import put_facts
from metrikon.core.extraction.state import State, Step, through

# what answers come to, before any value is looked at
ANSWERS: tuple[Step, ...] = (parse, set_beside, leave_out_unnamed)

# what becomes of a record; gone through again for each record that a repair proposes
RECORD: tuple[Step, ...] = (
    put_facts,  # what the file says of itself comes first
    derive,  # what is worked out from rows
    ground_all,  # where each value stands
    retype,  # what was typed a little wrong
    leave_out_inventions,  # what can be no value of its kind
    take_back,  # what a speaker takes back
    complete,  # what holds where nothing is said
    print_digits,  # amounts with the digits that are printed
    doubt,  # what speaks against a value
    check,  # the record type's own checks and arithmetic
)

# what is decided of it
DECISIONS: tuple[Step, ...] = (ask_next, trust, suggest, name_files)


def again(state: State, record: dict[str, object]) -> State:
    """The stages of a record gone through with another one."""
    return through(RECORD, replace(state, record=record, evidence={}, notes=(), checked=()))


def repair(state: State) -> State:
    """The record with what repairs made better."""
    return mend(state, again)


STAGES: tuple[Step, ...] = (*ANSWERS, *RECORD, repair, *DECISIONS)


def names(steps: tuple[Callable[[State], State], ...] = STAGES) -> list[str]:
    """The names of the stages in their order."""
    return [each.__name__ for each in steps]
