"""A list in JSON that a service gives: page by page, each entry once, since where one stood."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any, ClassVar
from urllib.parse import urljoin

from pydantic import Field

from metrikon.core.feel import BadExpression, FeelError, evaluate, fill, plain, text_of
from metrikon.core.flows.form import Condition
from metrikon.core.values.exact import NotJson, as_kept, dumps, loads
from metrikon.core.values.text import clean
from metrikon.intakes.fetched import FromPage, page
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing

MOST_PAGES, MOST = 200, 20_000
_NEXT = re.compile(r'<([^>]*)>\s*;[^,]*\brel="?next"?', re.I)  # RFC 8288


class Poll(FromPage):
    """Entries of a list in JSON, such as the candidates of a recruiting service.

    In the address `${cursor}` stands for the highest value that `cursor` gave so far (empty at first), `${number}` for the number of the page, from 1.
    """

    conditions_see: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "entries": ("page",),
        "following": ("page",),
        "id": ("entry",),
        "at": ("entry",),
        "title": ("entry",),
        "cursor": ("entry",),
    }

    entries: Condition = Field("page", alias="list", description="A FEEL expression: the entries on a page, such as page.candidates.")
    following: Condition | None = Field(
        None,
        alias="next",
        description="A FEEL expression: the address of the page after it; else a Link header, or none where the address has no ${number}.",
    )
    id: Condition = Field(
        "entry.id", description="A FEEL expression: what tells an entry from others; with when it changed, a changed one is taken anew."
    )
    at: Condition | None = Field(None, description="A FEEL expression: when the entry came or changed.")
    title: Condition | None = Field(None, description="A FEEL expression: what the entry is called.")
    cursor: Condition | None = Field(
        None, description="A FEEL expression: what of an entry stands in the address as ${cursor} the next time, such as entry.updated."
    )


class PollSource(Quiet):
    """The entries of a list. The cursor is the highest value seen, once all of a look was taken."""

    def __init__(self, said: Poll, here: Here) -> None:
        self.said, self._calling, self._largest = said, here.calling, here.largest
        self.every = said.every

    def test(self) -> str:
        first = next(self._pages(""), None)
        count = len(first or ())
        return f"{self.said.url} answers; the first page holds {count} {'entry' if count == 1 else 'entries'}."

    def there(self) -> Iterator[Thing]:
        yield from sorted(self._things("", 0), key=lambda each: -each.at)

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        things = sorted(self._things(str(cursor) if cursor is not None else "", moment), key=lambda each: each.at)
        seen = [each.cursor for each in things if each.cursor is not None]
        highest = max(seen, key=_ordered) if seen else None
        for number, each in enumerate(things):
            last = number == len(things) - 1 and self.said.cursor is not None
            yield Thing(each.identity, each.name, each.at, each.size, each.data, cursor=highest if last else None)

    def get(self, thing: Thing) -> list[Piece]:
        return [Piece(thing.name, dumps(thing.data))]

    def _things(self, cursor: str, moment: int) -> Iterator[Thing]:
        seen = set()
        for entries in self._pages(cursor):
            for entry in entries:
                thing = self._thing(entry, moment)
                if thing.identity not in seen:
                    seen.add(thing.identity)
                    yield thing
                if len(seen) > MOST:
                    raise IntakeFailed(f"The list at {self.said.url} has more than {MOST:,} entries. Say more in its address.")

    def _thing(self, entry: Any, moment: int) -> Thing:
        told = self._worked(self.said.id, {"entry": entry})
        if told is None:
            raise IntakeFailed(
                f"{self.said.id!r} gives nothing for an entry of {self.said.url}: {dumps(entry)[:200].decode('utf-8', 'replace')}. Correct the flow."
            )
        at = _moment(self._worked(self.said.at, {"entry": entry})) if self.said.at else 0
        title = self._worked(self.said.title, {"entry": entry}) if self.said.title else None
        name = clean(text_of(title if title is not None else told) or "entry")[:120]
        cursor = plain(self._worked(self.said.cursor, {"entry": entry})) if self.said.cursor else None
        data = dumps(entry)
        identity = hashlib.sha256(str(text_of(told)).encode()).hexdigest()[:40]
        return Thing(identity, f"{name}.json", at or moment, len(data), entry, cursor=cursor)

    def _pages(self, cursor: str) -> Iterator[list[Any]]:
        number, url, seen = 1, self._filled(cursor, 1), set[str]()
        while url not in seen and len(seen) < MOST_PAGES:
            seen.add(url)
            found = page(self._calling, self.said.connection, url, self._largest)
            try:
                read = loads(found.data or b"")
            except NotJson as error:
                raise IntakeFailed(f"{found.url} is no JSON: {error}.") from error
            entries = self._worked(self.said.entries, {"page": read})
            if not isinstance(entries, list):
                raise IntakeFailed(f"{found.url} holds no list under {self.said.entries!r}. Correct the flow.")
            yield as_kept(entries)
            following = self._following(read, found.links, found.url)
            if not following and "${number}" in self.said.url and entries:
                number += 1
                following = self._filled(cursor, number)
            if not following:
                return
            url = following

    def _following(self, read: Any, links: str, here: str) -> str:
        if self.said.following is not None:
            told = self._worked(self.said.following, {"page": read})
            return urljoin(here, told) if isinstance(told, str) and told else ""
        link = _NEXT.search(links)
        return urljoin(here, link.group(1)) if link else ""

    def _filled(self, cursor: str, number: int) -> str:
        return str(fill(self.said.url, {"cursor": cursor, "number": Decimal(number)}))

    def _worked(self, expression: str, scope: Mapping[str, Any]) -> Any:
        try:
            return evaluate(expression, as_kept(dict(scope)))
        except (BadExpression, FeelError) as error:
            raise IntakeFailed(f"{expression!r} could not be worked out: {error} Correct the flow.") from error


def _moment(value: Any) -> int:
    """A moment as milliseconds since 1970, given as a date and time, a text of one, or seconds since then; 0 where it is none."""
    if isinstance(value, Decimal):
        return int(value * 1000) if 0 < value < 10**11 else int(value)
    if isinstance(value, datetime):
        return int((value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp() * 1000)
    try:
        found = datetime.fromisoformat(str(text_of(value)))
    except (ValueError, FeelError):
        return 0
    return int((found if found.tzinfo else found.replace(tzinfo=UTC)).timestamp() * 1000)


def _ordered(value: Any) -> tuple[int, Any]:
    return (0, value) if isinstance(value, int | Decimal) else (1, str(value))


KIND = IntakeKind(
    "poll",
    Poll,
    lambda said: f"entries of the list at {said.url}",
    lambda said, home: str(said.url),
    PollSource,
    reaches=True,
    gives="The entry of the list, as its server gives it.",
)
