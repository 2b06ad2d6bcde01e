"""Where an intake stands is never behind something that was not kept, and one thing that cannot be had holds up no other for good."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.engine import arrivals
from metrikon.engine.taking import TRIES
from metrikon.ports.intake import IntakeFailed, Piece, Quiet, Thing
from metrikon.store import intakes, items, listing
from metrikon.store.database import StoreFailed
from metrikon.store.items import Arrived

FLOW = """
metrikon: 1
name: letters
intakes: [{kind: mailbox, connection: post}]
steps: [{name: made, set: {n: "${item.data.n}"}}]
"""


class Numbers(Quiet):
    """Letters with numbers; the cursor is the last number."""

    def __init__(self, count: int) -> None:
        self.count, self.broken, self.settled = count, set[int](), list[int]()

    def test(self) -> str:
        return "They are there."

    def there(self) -> Iterator[Thing]:
        yield from list(self.new(None, 0))[::-1]

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        for number in range(int(cursor or 0) + 1, self.count + 1):
            yield Thing(f"letter {number}", f"{number}.txt", number, 5, {"n": number}, number, number)

    def get(self, thing: Thing) -> Sequence[Piece]:
        if thing.key in self.broken:
            raise IntakeFailed(f"{thing.name} cannot be had.")
        return [Piece(thing.name, f"letter {thing.key}".encode())]

    def settle(self, thing: Thing, *, taken: bool) -> None:
        self.settled.append(int(thing.key))


@pytest.fixture
def look(house: Callable[..., App]) -> Callable[[Numbers], int]:
    from metrikon.core.flows.connecting import Way

    app = house(fetch_private=True)
    app.connections.put("post", "imap://127.0.0.1:1", Way("basic", "ada"), "secret-17", "ada")
    app.catalog.put_flow(FLOW)
    flow = app.catalog.newest_flow("letters")

    def look(source: Numbers) -> int:
        row = app.taking.row(flow, flow.intakes[0])
        return app.taking.look(flow, flow.intakes[0], source, row)

    look.app = app  # type: ignore[attr-defined]
    return look


def _names(app: App) -> list[str]:
    with app.database.reading() as connection:
        return sorted(row["name"] for row in listing.item_page(connection, most=99).rows)


def test_what_was_not_kept_comes_again_though_what_came_after_it_could_have_been_kept(
    look: Callable[[Numbers], int], monkeypatch: pytest.MonkeyPatch
) -> None:
    app: App = look.app  # type: ignore[attr-defined]
    arrive = items.arrive

    def once(connection: Any, arrival: Any, ids: tuple[str, str], at: int) -> Arrived:
        if arrival.identity == "letter 2":
            raise StoreFailed("The disk is full.")
        return arrive(connection, arrival, ids, at)

    with monkeypatch.context() as patched:
        patched.setattr(arrivals.items, "arrive", once)
        with pytest.raises(StoreFailed):
            look(Numbers(5))
    assert look(Numbers(5)) == 4
    assert _names(app) == [f"{number}.txt" for number in range(1, 6)]


def test_one_that_holds_something_else_than_before_is_let_go_and_those_behind_it_come(look: Callable[[Numbers], int]) -> None:
    app: App = look.app  # type: ignore[attr-defined]
    app.arrivals.take("letters", "mailbox", "letter 2", "2.txt", b"something else")
    with app.database.reading() as connection:
        assert not intakes.known(connection, "letters", "mailbox", ["letter 1"])
    source = Numbers(4)
    look(source)
    look(source)
    assert _names(app) == ["1.txt", "2.txt", "3.txt", "4.txt"]


def test_one_that_cannot_be_had_is_tried_and_then_let_go_so_that_it_holds_up_no_other(look: Callable[[Numbers], int]) -> None:
    app: App = look.app  # type: ignore[attr-defined]
    source = Numbers(3)
    source.broken = {2}
    for _ in range(TRIES - 1):
        with pytest.raises(IntakeFailed, match=r"2\.txt cannot be had"):
            look(source)
    assert _names(app) == ["1.txt"]
    assert look(source) == 1
    assert _names(app) == ["1.txt", "3.txt"]
    with app.database.reading() as connection:
        (gone,) = intakes.listed_let_go(connection, "letters", "mailbox", 9)
    assert gone["why"] == "2.txt cannot be had."
