"""What is wrong with a text that is no YAML, in the words of who wrote it, and what to do."""

from __future__ import annotations

CURLY = "“”„‟‘’‚«»"
_HOLES = 'Text with ${…} stands in quotation marks: "${…}".'


def in_words(problem: str, text: str, line: int) -> str:
    """A problem that a YAML reader has with a line (from 1) of a text, told for people. What is not known is told as it is."""
    lines = text.splitlines()
    here = lines[line - 1] if 0 < line <= len(lines) else ""
    if "\\t" in problem or here.lstrip(" ").startswith("\t"):
        return "There is a tab at the beginning of the line. Lines are indented with blanks alone: put two blanks in its place."
    if any(sign in here for sign in CURLY):
        found = next(sign for sign in CURLY if sign in here)
        return f'The quotation mark {found} is that of an office program. Write straight ones: ".'
    if "${" in here and _bare_hole(here):
        return f"A ${{…}} stands there without quotation marks. {_HOLES}"
    if "block end" in problem or "block mapping" in problem or "block collection" in problem or "block sequence" in problem:
        return "The line is indented otherwise than those that it belongs to. Entries of one list, and of one step, begin in the same column."
    if "mapping values are not allowed" in problem:
        return "There is a colon where no value can begin. Put a text that holds a colon into quotation marks, and begin a new entry on a line of its own."
    if "could not find expected ':'" in problem or "simple key" in problem:
        return "A name without a colon stands there. An entry is written `name: value`, with a blank behind the colon."
    if "found unexpected end of stream" in problem or "while scanning a quoted" in problem:
        return "A quotation mark is opened and not closed. Close it."
    if problem.startswith("expected ',' or"):
        return "A bracket that was opened before is not closed, or a comma is missing between two entries."
    if "duplicate key" in problem:
        return f"{problem[:1].upper()}{problem[1:]}. Each name stands once; remove one of them."
    if "found character" in problem and "cannot start" in problem:
        sign = problem.partition("found character ")[2].partition(" that")[0]
        return f"A value cannot begin with {sign}. Put it into quotation marks."
    return f"{problem}."


def _bare_hole(line: str) -> bool:
    """Whether a hole in the line stands outside of quotation marks."""
    quoted = ""
    for at, sign in enumerate(line):
        if sign in "\"'" and (not quoted or quoted == sign):
            quoted = "" if quoted else sign
        elif line.startswith("${", at) and not quoted:
            return True
    return False
