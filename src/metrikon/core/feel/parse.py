"""From the text of an expression to its parts (DMN 1.5, 10.3.1.2), by hand, so that an error says what was expected where."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from functools import lru_cache
from itertools import pairwise
from typing import TypeVar

from metrikon.core.feel import syntax as s
from metrikon.core.feel.cursor import Cursor
from metrikon.core.feel.functions import FUNCTIONS, former_name
from metrikon.core.feel.lexer import BadExpression, Lexeme, lexemes, unquoted
from metrikon.core.feel.names import functions_known
from metrikon.core.feel.numbers import rounded

LONGEST = 4000  # characters
DEEPEST = 40  # expressions within each other
LONGEST_TAIL = 200  # paths, filters and calls after one value
LEFT = {"[": False, "(": True, "]": True}  # whether an end of a range is open
RIGHT = {"]": False, ")": True, "[": True}
COMPARING = ("=", "!=", "<", "<=", ">", ">=")
COMPARISON = 2
BINDING = {"or": 0, "and": 1, **dict.fromkeys((*COMPARING, "between", "in"), COMPARISON), "+": 3, "-": 3, "*": 4, "/": 4, "**": 5}
_SPACED = tuple(sorted((name.split() for name in FUNCTIONS if " " in name), key=len, reverse=True))
_PROPERTIES = (["time", "offset"], ["start", "included"], ["end", "included"])
T = TypeVar("T")


@lru_cache(maxsize=4096)
def parse(text: str) -> s.Part:
    """The parts of an expression. Raises `BadExpression`."""
    return _parsed(text, lambda parser: parser.expression())


@lru_cache(maxsize=4096)
def parse_tests(text: str) -> s.Part:
    """The parts of unary tests, such as those of a rule in a decision table. Raises `BadExpression`."""
    return _parsed(text, lambda parser: parser.tests())


def _parsed(text: str, what: Callable[[_Parser], s.Part]) -> s.Part:
    if len(text) > LONGEST:
        raise BadExpression(f"The expression has {len(text)} characters; at most {LONGEST} are allowed.")
    if not text.strip():
        raise BadExpression("The expression is empty.")
    try:
        parser = _Parser(text)
        found = what(parser)
        parser.expect_end()
        functions_known(found, frozenset())
    except BadExpression as error:
        raise BadExpression(f"{_shown(text, error.at)}: {error}.", error.at) from error
    return found


def _shown(text: str, at: int) -> str:
    start = max(0, at - 40)
    return f"{'…' if start else ''}{text[start : at + 40].strip()}{'…' if at + 40 < len(text) else ''}"


class _Parser(Cursor):
    """Goes through the lexemes once, but for ranges whose last bracket may look like a filter."""

    # ---- expressions, the loosest first

    def expression(self) -> s.Part:
        self.depth += 1
        if self.depth > DEEPEST:
            raise BadExpression(f"it nests deeper than {DEEPEST} expressions", self.here.at)
        keep, self.no_filter = self.no_filter, False
        try:
            return self._expression()
        finally:
            self.depth -= 1
            self.no_filter = keep

    def _expression(self) -> s.Part:
        at = self.here.at
        if self.takes("if"):
            condition = self.expression()
            self.expect("then", "then and a value are expected")
            then = self.expression()
            self.expect("else", "else and a value are expected")
            return s.If(condition, then, self.expression(), at=at)
        if self.takes("for"):
            iterations = self._iterations(ranges=True)
            self.expect("return", "return and an expression are expected")
            return s.For(iterations, self.expression(), at=at)
        if self.sees("some", "every"):
            every = self.take().text == "every"
            iterations = self._iterations(ranges=False)
            self.expect("satisfies", "satisfies and a condition are expected")
            return s.Quantified(every, iterations, self.expression(), at=at)
        if self.takes("function"):
            return self._function(at)
        return self._operators()

    def _iterations(self, *, ranges: bool) -> tuple[s.Iteration, ...]:
        found = []
        while True:
            name = self.word().text
            self.expect("in", "in and a list are expected")
            source = self.expression()
            until = self.expression() if ranges and self.takes("..") else None
            found.append(s.Iteration(name, source, until))
            if not self.takes(","):
                return tuple(found)

    def _function(self, at: int) -> s.Part:
        self.expect("(")
        parameters: list[tuple[str, str | None]] = []
        while not self.takes(")"):
            name = self.word().text
            parameters.append((name, self.type() if self.takes(":") else None))
            if not self.sees(")"):
                self.expect(",", "a comma or ) is expected")
        if self.sees("external"):
            raise BadExpression("functions outside of the language (external) cannot be called", self.here.at)
        return s.FunctionOf(tuple(parameters), self.expression(), at=at)

    def _operators(self, least: int = 0) -> s.Part:
        """Values joined by operators that bind at least so tightly (10.3.1.2: precedence is the order in the grammar)."""
        at, left = self.here.at, self._signed()
        while True:
            level = BINDING.get(self.here.text, -1) if self.here.kind in ("sign", "keyword") else -1
            if level < least or level < 0:
                return left
            if level == COMPARISON:
                left = self._comparison(left, at)
            elif level < COMPARISON:
                left = self._joined(left, level, at)
            else:
                left = self._chain(left, level, at)

    def _joined(self, first: s.Part, level: int, at: int) -> s.Part:
        word, parts = self.here.text, [first]
        while self.takes(word):
            parts.append(self._operators(level + 1))
        return s.Or(tuple(parts), at=at) if word == "or" else s.And(tuple(parts), at=at)

    def _chain(self, first: s.Part, level: int, at: int) -> s.Part:
        rest = []
        while self.here.kind == "sign" and BINDING.get(self.here.text) == level:
            sign = self.take().text
            rest.append((sign, self._operators(level + 1)))
        return s.Chain(first, tuple(rest), at=at)

    def _comparison(self, left: s.Part, at: int) -> s.Part:
        if self.sees(*COMPARING):
            sign = self.take().text
            found: s.Part = s.Compare(sign, left, self._operators(COMPARISON + 1), at=at)
        elif self.takes("between"):
            low = self._operators(COMPARISON + 1)
            self.expect("and", "and with the upper end is expected")
            found = s.Between(left, low, self._operators(COMPARISON + 1), at=at)
        else:
            self.expect("in")
            found = s.In(left, self._tests_after_in(), at=at)
        if self.sees(*COMPARING):
            self.fail("two comparisons are joined by and, or use between")
        return found

    def _signed(self) -> s.Part:
        at, signs = self.here.at, 0
        while self.takes("-"):
            signs += 1
        value = self._tail()
        if self.takes("instance"):
            self.expect("of")
            value = s.InstanceOf(value, self.type(), at=at)
        if signs and isinstance(value, s.Literal) and isinstance(value.value, Decimal):
            return s.Literal(-value.value if signs % 2 else value.value, at=at)
        return s.Negative(value, at=at) if signs % 2 else s.Negative(s.Negative(value, at=at), at=at) if signs else value

    def _tail(self) -> s.Part:
        """A value with what follows it: entries, filters, calls."""
        at, found, count = self.here.at, self._primary(), 0
        while True:
            if self.takes("."):
                names = [self._entry_name()]
                while self.takes("."):
                    names.append(self._entry_name())
                found = s.Path(found, tuple(names), at=at)
            elif self.sees("[") and not self.no_filter:
                self.take()
                test = self.expression()
                self.expect("]", "] is expected")
                found = s.Filter(found, test, at=at)
            elif self.sees("(") and isinstance(found, s.Path | s.Invocation | s.BuiltIn | s.Name | s.FunctionOf | s.Filter):
                found = self._call(found, at)
            else:
                return found
            count += 1
            if count > LONGEST_TAIL:
                raise BadExpression(f"more than {LONGEST_TAIL} paths, filters and calls follow each other", self.here.at)

    def _entry_name(self) -> str:
        for words in _PROPERTIES:
            if self.words(words):
                return " ".join(words)
        if self.here.kind not in ("word", "keyword"):
            self.fail("the name of an entry is expected")
        return self.take().text

    def _call(self, function: s.Part, at: int) -> s.Part:
        self.expect("(")
        if self.takes(")"):
            return s.Invocation(function, at=at)
        if self._parameter_name(take=False):
            named = []
            while True:
                name = self._parameter_name(take=True)
                if not name:
                    self.fail("the name of a parameter and : are expected")
                named.append((name, self.expression()))
                if not self.takes(","):
                    break
            self.expect(")", "a comma or ) is expected")
            return s.Invocation(function, (), tuple(named), at=at)
        arguments = [self.expression()]
        while self.takes(","):
            arguments.append(self.expression())
        self.expect(")", "a comma or ) is expected")
        return s.Invocation(function, tuple(arguments), at=at)

    def _parameter_name(self, *, take: bool) -> str:
        """The name before a colon, of as many words as it has; nothing when an expression comes."""
        at, words = self.at, []
        while self.lexemes[at].kind in ("word", "keyword"):
            words.append(self.lexemes[at].text)
            at += 1
        if not words or self.lexemes[at].text != ":":
            return ""
        if take:
            self.at = at + 1
        return " ".join(words)

    # ---- values

    def _primary(self) -> s.Part:
        here = self.here
        if here.kind == "number":
            self.take()
            try:
                return s.Literal(rounded(Decimal(here.text)), at=here.at)
            except ArithmeticError:
                raise BadExpression(f"the number at {here.at + 1} is beyond all bounds", here.at) from None
        if here.kind == "text":
            return s.Literal(self._text(), at=here.at)
        if here.kind == "keyword" and here.text in ("true", "false", "null"):
            self.take()
            return s.Literal({"true": True, "false": False, "null": None}[here.text], at=here.at)
        if here.kind == "word":
            return self._name()
        if self.takes("?"):
            return s.Name("?", at=here.at)
        if self.takes("@"):
            if self.here.kind != "text":
                self.fail('a text is expected, such as @"2026-05-01"')
            return s.AtLiteral(self._text(), at=here.at)
        if self.takes("{"):
            return self._context(here.at)
        if not self.sees("(", "[", "]"):
            self.fail("a value is expected")
        return self._bracketed()

    def _text(self) -> str:
        here = self.take()
        try:
            return unquoted(here.text)
        except (ValueError, OverflowError):
            raise BadExpression(f"the text at {here.at + 1} names a character that there is not", here.at) from None

    def _name(self) -> s.Part:
        here = self.here
        for words in _SPACED:
            if here.text == words[0] and self._called_after(len(words)) and self.words(words):
                return s.BuiltIn(" ".join(words), at=here.at)
        self.take()
        if self.sees("("):
            name = here.text if here.text in FUNCTIONS else former_name(here.text)
            if name:
                return s.BuiltIn(name, at=here.at)
        return s.Name(here.text, at=here.at)

    def _called_after(self, count: int) -> bool:
        at = self.at + count
        return at < len(self.lexemes) and self.lexemes[at].text == "("

    def _context(self, at: int) -> s.Part:
        entries: list[tuple[str, s.Part]] = []
        while not self.takes("}"):
            begins = self.here.at
            if self.here.kind == "text":
                name = self._text()
                self.expect(":")
            else:
                name = self._parameter_name(take=True)
                if not name:
                    self.fail("the name of an entry and : are expected")
            if name in dict(entries):
                raise BadExpression(f"the entry {name!r} is there already", begins)
            entries.append((name, self.expression()))
            if not self.sees("}"):
                self.expect(",", "a comma or } is expected")
        return s.Context(tuple(entries), at=at)

    def _bracketed(self) -> s.Part:
        """A list, a range, or an expression in brackets."""
        opening = self.take()
        if opening.text == "[" and self.takes("]"):
            return s.ListOf((), at=opening.at)
        if opening.text == "(" and self.sees(*COMPARING):
            test = self._test()
            self.expect(")", ") is expected")
            return test
        first = self.expression()
        if self.sees(".."):
            return self._range(opening, first)
        if opening.text == "]":
            self.fail(".. and the end of the range are expected")
        if opening.text == "(":
            self.expect(")", ") is expected")
            return first
        elements = [first]
        while self.takes(","):
            elements.append(self.expression())
        self.expect("]", "a comma or ] is expected")
        return s.ListOf(tuple(elements), at=opening.at)

    def _range(self, opening: Lexeme, low: s.Part) -> s.Part:
        self.expect("..")
        high = self._tried(self._end_of_range) or self._without_filter(self._end_of_range)
        closing = self.take()
        return s.RangeOf(low, high, LEFT[opening.text], RIGHT[closing.text], at=opening.at)

    def _end_of_range(self) -> s.Part:
        found = self._operators(COMPARISON + 1)
        if not self.sees(*RIGHT):
            self.fail("], ) or [ is expected")
        return found

    def _tried(self, what: Callable[[], T]) -> T | None:
        at, depth = self.at, self.depth
        try:
            return what()
        except BadExpression:
            self.at, self.depth = at, depth
            return None

    def _without_filter(self, what: Callable[[], T]) -> T:
        keep, self.no_filter = self.no_filter, True
        try:
            return what()
        finally:
            self.no_filter = keep

    # ---- tests

    def tests(self) -> s.Part:
        """Unary tests: a dash, tests parted by commas, or not(…)."""
        at = self.here.at
        if self.sees("-") and self.lexemes[self.at + 1].kind == "end":
            self.take()
            return s.Tests((), at=at)
        if self.sees("not") and self._called_after(1):
            keep = self.at
            self.take()
            self.expect("(")
            found = self._several_tests()
            if self.takes(")") and self.here.kind == "end":
                return s.Tests(found, True, at=at)
            self.at = keep
        return s.Tests(self._several_tests(), at=at)

    def _several_tests(self) -> tuple[s.Part, ...]:
        found = [self._test()]
        while self.takes(","):
            found.append(self._test())
        return tuple(found)

    def _test(self) -> s.Part:
        at = self.here.at
        if self.sees(*COMPARING):
            sign = self.take().text
            return s.Test(sign, self._operators(COMPARISON + 1), at=at)
        return self.expression()

    def _tests_after_in(self) -> tuple[s.Part, ...]:
        if not self.sees("("):
            return (self._test() if self.sees(*COMPARING) else self._operators(COMPARISON + 1),)
        opening = self.take()
        first = self._test()
        if self.sees("..") and not isinstance(first, s.Test):
            return (self._range(opening, first),)
        found = [first]
        while self.takes(","):
            found.append(self._test())
        self.expect(")", "a comma or ) is expected")
        return tuple(found)


def in_standard_spelling(text: str) -> str:
    """An expression with the functions that earlier versions wrote with underscores under their names in the standard. Raises `BadExpression`."""
    every, out, at = list(lexemes(text)), [], 0
    for here, then in pairwise(every):
        name = former_name(here.text) if here.kind == "word" and then.text == "(" else None
        if name:
            out += [text[at : here.at], name]
            at = here.end
    return "".join([*out, text[at:]])


__all__ = ["DEEPEST", "LONGEST", "BadExpression", "in_standard_spelling", "parse", "parse_tests"]
