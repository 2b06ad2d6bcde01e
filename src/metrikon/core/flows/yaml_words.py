"""What is wrong with a text that is no YAML, in the words of who wrote it, and what to do."""

from __future__ import annotations

from collections.abc import Callable

CURLY = "“”„‟‘’‚«»"
_HOLES = 'Text with ${…} stands in quotation marks: "${…}".'
_INDENT = "The line is indented otherwise than those that it belongs to. Entries of one list, and of one step, begin in the same column."


def _tab(problem: str, here: str) -> str:
    if "\\t" in problem or here.lstrip(" ").startswith("\t"):
        return "There is a tab at the beginning of the line. Lines are indented with blanks alone: put two blanks in its place."
    return ""


def _quotation(problem: str, here: str) -> str:
    found = next((sign for sign in here if sign in CURLY), "")
    return f'The quotation mark {found} is that of an office program. Write straight ones: ".' if found else ""


def _hole(problem: str, here: str) -> str:
    return f"A ${{…}} stands there without quotation marks. {_HOLES}" if _bare_hole(here) else ""


def _duplicate(problem: str, here: str) -> str:
    return f"{problem[:1].upper()}{problem[1:]}. Each name stands once; remove one of them." if "duplicate key" in problem else ""


def _begins(problem: str, here: str) -> str:
    if "found character" not in problem or "cannot start" not in problem:
        return ""
    sign = problem.partition("found character ")[2].partition(" that")[0]
    return f"A value cannot begin with {sign}. Put it into quotation marks."


_SEEN: tuple[Callable[[str, str], str], ...] = (_tab, _quotation, _hole)  # what the line itself shows comes before what its reader says
_SAID = {  # by what the reader says
    "block end": _INDENT,
    "block mapping": _INDENT,
    "block collection": _INDENT,
    "block sequence": _INDENT,
    "mapping values are not allowed": "There is a colon where no value can begin. Put a text that holds a colon into quotation marks, and begin a new entry on a line of its own.",
    "could not find expected ':'": "A name without a colon stands there. An entry is written `name: value`, with a blank behind the colon.",
    "simple key": "A name without a colon stands there. An entry is written `name: value`, with a blank behind the colon.",
    "unexpected end of stream": "A quotation mark is opened and not closed. Close it.",
    "expected ',' or": "A bracket that was opened before is not closed, or a comma is missing between two entries.",
}


def in_words(problem: str, text: str, line: int) -> str:
    """A problem that a YAML reader has with a line (from 1) of a text, told for people. What is not known is told as it is."""
    lines = text.splitlines()
    here = lines[line - 1] if 0 < line <= len(lines) else ""
    told = [seen(problem, here) for seen in _SEEN]
    told += [words for said, words in _SAID.items() if said in problem]
    told += [_duplicate(problem, here), _begins(problem, here)]
    return next((each for each in told if each), f"{problem}.")


def _bare_hole(line: str) -> bool:
    """Whether a hole in the line stands outside of quotation marks."""
    quoted = ""
    for at, sign in enumerate(line):
        if sign in "\"'" and (not quoted or quoted == sign):
            quoted = "" if quoted else sign
        elif line.startswith("${", at) and not quoted:
            return True
    return False
