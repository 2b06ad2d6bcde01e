"""Going through the lexemes of an expression."""

from __future__ import annotations

from typing import NoReturn

from metrikon.core.feel.habits import habit
from metrikon.core.feel.lexer import BadExpression, Lexeme, lexemes

_TYPES = (
    *(["years", "and", "months", "duration"], ["days", "and", "time", "duration"], ["date", "and", "time"]),
    *([each] for each in ("number", "string", "boolean", "date", "time", "list", "context", "function", "range")),
    *(["Any"], ["Null"]),
)


class Cursor:
    """Lexemes one after the other, and what is said when another was expected."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.lexemes: list[Lexeme] = list(lexemes(text))
        self.at = 0
        self.depth = 0
        self.no_filter = False

    @property
    def here(self) -> Lexeme:
        return self.lexemes[self.at]

    def take(self) -> Lexeme:
        found = self.here
        self.at += found.kind != "end"
        return found

    def sees(self, *texts: str) -> bool:
        """Whether one of these signs or words comes next."""
        here = self.here
        return here.text in texts and here.kind in ("sign", "keyword", "word")

    def takes(self, *texts: str) -> bool:
        found = self.sees(*texts)
        self.at += found
        return found

    def expect(self, text: str, what: str = "") -> Lexeme:
        if not self.sees(text):
            self.fail(what or f"{text} is expected")
        return self.take()

    def expect_end(self) -> None:
        if self.here.kind != "end":
            self.fail("an operator is expected")

    def fail(self, expected: str) -> NoReturn:
        here = self.here
        if here.kind == "end":
            raise BadExpression(f"it ends too early; {expected} at {here.at + 1}", here.at)
        raise BadExpression(f"{here.text} at {here.at + 1} cannot stand there; {habit(self.text, here.at) or expected}", here.at)

    def word(self) -> Lexeme:
        if self.here.kind != "word":
            self.fail("a name is expected")
        return self.take()

    def words(self, wanted: list[str]) -> bool:
        """Take these words, if they come next one after the other."""
        coming = self.lexemes[self.at : self.at + len(wanted)]
        if [each.text for each in coming] != wanted or any(each.kind not in ("word", "keyword") for each in coming):
            return False
        self.at += len(wanted)
        return True

    def type(self) -> str:
        """The name of a type (10.3.2.9)."""
        for words in _TYPES:
            if self.words(words):
                name = " ".join(words)
                break
        else:
            self.fail("a type is expected, such as number, string, date or list<number>")
        if name in ("list", "range") and self.takes("<"):
            name = f"{name}<{self.type()}>"
            self.expect(">")
        elif name == "context" and self.takes("<"):
            entries = []
            while not self.takes(">"):
                entry = self.word().text
                self.expect(":")
                entries.append(f"{entry}: {self.type()}")
                if not self.sees(">"):
                    self.expect(",")
            name = f"context<{', '.join(entries)}>"
        elif name == "function" and self.takes("<"):
            taken = []
            while not self.takes(">"):
                taken.append(self.type())
                if not self.sees(">"):
                    self.expect(",")
            self.expect("->")
            name = f"function<{', '.join(taken)}>->{self.type()}"
        return name
