"""Filling the holes of a template: found also where they are split over several runs of text; rows repeated; nothing is filled where one has no value.

What differs between forms of document stands in a `Form`: what is a paragraph, a row, a piece of text, and how a line break or a picture is put in.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Any, Protocol

from metrikon.core.feel import BadExpression, FeelError, names, parse
from metrikon.core.feel.holes import hole_end
from metrikon.core.feel.values import text_of
from metrikon.core.values.text import xml_text

Element = Any  # of lxml
MOST_ROWS, MOST_HOLES = 10_000, 20_000
_DOLLAR = "\ue000"  # stands for the dollar of values until all is filled
_QUOTES = str.maketrans({"“": '"', "”": '"', "„": '"', "‘": "'", "’": "'", "\u00a0": " "})  # which office programs make of plain ones


class BadTemplate(ValueError):
    """A template that cannot be filled; the message says where and why."""


class Hindered(BadTemplate):
    """Nothing is wrong with the template: a picture is none, or the machine cannot lay pages out. The message says what to do."""


@dataclass(frozen=True)
class Picture:
    """A picture: its bytes, ending ("png", "jpeg"), and size in dots."""

    data: bytes
    ending: str
    width: int
    height: int


@dataclass(frozen=True)
class Given:
    """What holes are filled with. `evaluate`: the value of an expression with names that are seen besides; `lists`: rows by the name of one of them."""

    evaluate: Callable[[str, Mapping[str, Any]], Any]
    lists: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    pictures: Mapping[str, Picture] = field(default_factory=dict)


@dataclass
class Slot:
    """A piece of text: what stands in an element, or behind it."""

    element: Element
    behind: bool = False

    @property
    def text(self) -> str:
        return str((self.element.tail if self.behind else self.element.text) or "")

    def put(self, text: str) -> None:
        """Set it."""
        if self.behind:
            self.element.tail = text
        else:
            self.element.text = text


class Form(Protocol):
    """A form of document."""

    def paragraphs(self, root: Element) -> Iterator[Element]:
        """What a hole does not reach over."""
        ...

    def rows(self, root: Element) -> list[Element]:
        """What is repeated: rows of tables."""
        ...

    def slots(self, paragraph: Element) -> list[Slot]:
        """The pieces of text of a paragraph, in order; none of a paragraph within it."""
        ...

    def break_lines(self, slot: Slot) -> None:
        """Turn line breaks in a piece of text into those of the form."""
        ...

    def show(self, slot: Slot, before: str, picture: Picture, after: str) -> None:
        """Put a picture into a piece of text."""
        ...


def filled(root: Element, form: Form, given: Given) -> list[str]:
    """Fill an element in its place; the holes that have no value, each once. The element is of no use when there are any. Raises `BadTemplate`."""
    missing: dict[str, None] = {}
    _repeat(root, form, given, missing)
    for paragraph in list(form.paragraphs(root)):
        _fill(paragraph, form, given, {}, missing)
    for paragraph in form.paragraphs(root):
        for slot in form.slots(paragraph):
            if _DOLLAR in slot.text:
                slot.put(slot.text.replace(_DOLLAR, "$"))
    return list(missing)


def _repeat(root: Element, form: Form, given: Given, missing: dict[str, None]) -> None:
    """Repeat each row with holes about an element of a list, the inner rows first."""
    if not given.lists:
        return
    for row in reversed(form.rows(root)):
        used = dict.fromkeys(
            name
            for paragraph in form.paragraphs(row)
            for expression, _, _ in _holes(_joined(form.slots(paragraph)))
            for name in _roots(expression)
            if name in given.lists
        )
        if not used:
            continue
        if len(used) > 1:
            raise BadTemplate(f"A row has holes about {' and '.join(used)}, and can be repeated for one of them alone.")
        (name,) = used
        elements = given.lists[name]
        if len(elements) > MOST_ROWS:
            raise BadTemplate(f"There are {len(elements)} rows for {name}; at most {MOST_ROWS} are put into a document.")
        parent, at = row.getparent(), row.getparent().index(row)
        parent.remove(row)
        for number, element in enumerate(elements):
            made = deepcopy(row)
            made.tail = row.tail
            parent.insert(at + number, made)
            for paragraph in list(form.paragraphs(made)):
                _fill(paragraph, form, given, {name: element}, missing, only=name)


def _fill(paragraph: Element, form: Form, given: Given, besides: Mapping[str, Any], missing: dict[str, None], only: str = "") -> None:
    """Fill the holes of a paragraph, from the last to the first, so that places stay. `only`: but for those that do not speak of it: they are filled later."""
    slots = form.slots(paragraph)
    text = _joined(slots)
    touched: list[Slot] = []
    for expression, start, end in reversed(_holes(text)):
        picture = given.pictures.get(expression)
        if only and only not in _roots(expression):
            continue
        value = "" if picture is not None else _value(expression, given, besides)
        if value is None:
            missing[expression] = None
            continue
        first, before, after = _cut(slots, start, end)
        if picture is not None:
            form.show(first, before, picture, after)
            slots = form.slots(paragraph)
        else:
            first.put(f"{before}{_as_text(value)}{after}")
            touched.append(first)
    for slot in touched:
        if "\n" in slot.text:
            form.break_lines(slot)


def _value(expression: str, given: Given, besides: Mapping[str, Any]) -> Any:
    try:
        return given.evaluate(expression, besides)
    except (BadExpression, FeelError) as error:
        raise BadTemplate(f"${{{expression}}} cannot be worked out: {error}") from error


def _as_text(value: Any) -> str:
    """A value as text that holds no hole: what comes from a document is never worked out."""
    return xml_text((text_of(value) or "").replace("\r\n", "\n").replace("\r", "\n")).replace(_DOLLAR, "").replace("$", _DOLLAR)


def _joined(slots: Sequence[Slot]) -> str:
    return "".join(slot.text for slot in slots)


def _holes(text: str) -> list[tuple[str, int, int]]:
    """(expression, where it begins, where it ends) of each hole. Raises `BadTemplate` for one left open."""
    found, at = [], 0
    while (start := text.find("${", at)) >= 0:
        try:
            end = hole_end(text.translate(_QUOTES), start + 2)
        except BadExpression as error:
            raise BadTemplate(f"{error} It must be closed in the same paragraph.") from error
        found.append((text[start + 2 : end].translate(_QUOTES).strip(), start, end + 1))
        at = end + 1
        if len(found) > MOST_HOLES:
            raise BadTemplate(f"A paragraph has more than {MOST_HOLES} holes.")
    return found


def _roots(expression: str) -> set[str]:
    """The names with which the paths of an expression begin."""
    try:
        return {path[0] for path in names(parse(expression)) if path}
    except BadExpression as error:
        raise BadTemplate(f"${{{expression}}} is no expression: {error}") from error


def _cut(slots: Sequence[Slot], start: int, end: int) -> tuple[Slot, str, str]:
    """Take a stretch out of pieces of text: that in which it begins, with what stands there before it, and behind it."""
    at, first, before, after = 0, None, "", ""
    for slot in slots:
        text = slot.text
        begins, ends = max(start - at, 0), min(end - at, len(text))
        if first is None and at <= start < at + len(text):
            first, before, after = slot, text[:begins], text[ends:]
        elif first is not None and begins < ends:
            slot.put(text[ends:])
        at += len(text)
    assert first is not None
    return first, before, after


def put_behind(slot: Slot, made: Element) -> None:
    """Put an element right behind a piece of text; what it has behind itself stays with it."""
    tail = made.tail
    if slot.behind:
        parent = slot.element.getparent()
        parent.insert(parent.index(slot.element) + 1, made)
    else:
        slot.element.insert(0, made)
    made.tail = tail
