"""What every intake that is looked at must do, whatever it looks at. A test class inherits it and says how to fill the place."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.model import Flow, Said
from metrikon.core.values.exact import loads
from metrikon.store import flows, intakes, items, listing
from tests.helpers import eventually

FLOW = """
metrikon: 1
name: letters
intakes: [{kind: %s%s}]
steps: [{name: made, set: {came: "${item.data}"}}]
"""
OLD, DAY = datetime(2023, 5, 3, 12, tzinfo=UTC), datetime(2026, 11, 3, 12, tzinfo=UTC)


class Place:
    """The place that an intake looks at, in a test."""

    kind = ""
    said = ""  # besides its kind: `, path: in`
    dated = True  # whether things have days of their own
    single = True  # whether one thing can be taken while others stay

    def begin(self, app: App) -> None:
        """Make it ready."""

    def add(self, number: int, at: datetime) -> None:
        """Something comes: `thing {number}`, on a day."""
        raise NotImplementedError

    def condition(self, number: int) -> str:
        """A condition in FEEL that one thing alone does not meet."""
        raise NotImplementedError

    def break_off(self) -> Callable[[], None]:
        """Make it fail; what mends it."""
        raise NotImplementedError

    def end(self) -> None:
        """Let it go."""


class IntakeContract:
    """The tests. `place` is a fixture."""

    @pytest.fixture
    def app(self, house: Callable[..., App], place: Place) -> App:
        app = house(fetch_private=True)
        place.begin(app)
        return app

    def _flow(self, app: App, place: Place, more: str = "") -> tuple[Flow, Said]:
        app.catalog.put_flow(FLOW % (place.kind, place.said + more))
        flow = app.catalog.newest_flow("letters")
        return flow, flow.intakes[0]

    def test_what_is_there_is_told_newest_first_and_nothing_is_taken(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place)
        for number in range(3):
            place.add(number, DAY.replace(day=3 + number))
        assert app.watching.test(flow, said)
        would = app.watching.would(flow, said, 10)
        assert would.count == 3
        assert len(would.listed) == 3
        assert [thing.at for thing, _ in would.listed] == sorted((thing.at for thing, _ in would.listed), reverse=True)
        assert not _items(app)

    def test_each_thing_is_taken_once_in_order_and_known_again_after_a_restart(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place)
        for number in range(3):
            place.add(number, DAY.replace(day=3 + number))
        _taken(app, flow, said, 3)
        _restarted(app)
        assert app.watching.look(flow, said).count == 0
        place.add(3, DAY.replace(day=6))
        _taken(app, flow, said, 1)
        assert len(_items(app)) == 4
        assert app.watching.would(flow, said, 10).count == 0

    def test_one_chosen_thing_is_taken_though_the_flow_is_off_and_not_again_afterwards(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place)
        app.database.write(lambda connection: flows.switch_flow(connection, "letters", False, 0))
        for number in range(2):
            place.add(number, DAY.replace(day=3 + number))
        thing = app.watching.would(flow, said, 10).listed[0][0]
        (arrived,) = app.watching.take_one(flow, thing.identity or thing.name)
        assert not arrived.known
        app.database.write(lambda connection: flows.switch_flow(connection, "letters", True, 0))
        eventually(lambda: app.watching.look(flow, said) and len(_items(app)) == 2)
        assert len(_items(app)) == 2

    def test_what_does_not_meet_the_condition_is_let_go_counted_and_listed(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place, f", where: '{place.condition(1)}'")
        for number in range(3):
            place.add(number, DAY.replace(day=3 + number))
        would = app.watching.would(flow, said, 10)
        assert (would.count, sum(would.let_go.values())) == (2, 1)
        _taken(app, flow, said, 2)
        _restarted(app)
        app.watching.look(flow, said)
        with app.database.reading() as connection:
            (gone,) = intakes.listed_let_go(connection, "letters", said.name, 9)
            row = intakes.get(connection, "letters", said.name)
        assert "does not meet" in gone["why"]
        assert (row or {})["let_go"] == 1
        assert len(_items(app)) == 2

    def test_nothing_from_before_a_day_is_taken(self, app: App, place: Place) -> None:
        if not place.dated:
            pytest.skip("what is there has no day of its own")
        flow, said = self._flow(app, place, ", since: 2026-11-04")
        place.add(0, OLD)
        place.add(1, DAY.replace(day=5))
        _taken(app, flow, said, 1)
        assert len(_items(app)) == 1

    def test_no_more_is_taken_than_it_may(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place, ", most: 2")
        for number in range(4):
            place.add(number, DAY.replace(day=3 + number))
        would = app.watching.would(flow, said, 10)
        assert (would.count, would.beyond) == (2, 2)
        _taken(app, flow, said, 2)
        assert app.watching.look(flow, said).count == 0
        assert len(_items(app)) == 2
        flow, said = self._flow(app, place, ", most: 9")
        _taken(app, flow, said, 2)
        assert len(_items(app)) == 4, "raising it goes on where it stood"

    def test_while_it_fails_it_is_said_and_nothing_is_lost(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place)
        place.add(0, DAY)
        _taken(app, flow, said, 1)
        mend = place.break_off()
        assert app.watching.look(flow, said).failed
        with app.database.reading() as connection:
            (row,) = intakes.failing(connection)
        assert row["told"]
        assert "Traceback" not in row["told"]
        mend()
        place.add(1, DAY.replace(day=4))
        _taken(app, flow, said, 1)
        with app.database.reading() as connection:
            assert not intakes.failing(connection)

    def test_what_is_more_than_a_set_amount_waits_for_a_yes(self, house: Callable[..., App], place: Place) -> None:
        app = house("few", fetch_private=True, ask_items=11)
        place.begin(app)
        flow, said = self._flow(app, place)
        for number in range(12):
            place.add(number, DAY.replace(day=3 + number))
        eventually(lambda: app.watching.look(flow, said).count == 0 and _waits(app))
        assert not _items(app)
        app.watching.agree(flow, said)
        _taken(app, flow, said, 12)

    def test_a_sample_is_kept_with_all_that_is_known_of_it(self, app: App, place: Place) -> None:
        flow, said = self._flow(app, place)
        place.add(0, DAY)
        _taken(app, flow, said, 1)
        (row,) = _items(app)
        app.samples.keep_item("letters", "first", row["id"], "", "ada")
        with app.database.reading() as connection:
            known = (items.whole(connection, row["id"]) or {})["data"]
        sample = app.samples.whole("letters", "first")
        assert sample["data"] == known
        gives = app.kinds.intakes[said.kind].gives
        assert isinstance(gives, str) or set(loads(known)) == set(gives), "the reference says what an item holds"
        tried = app.trying.run(flow, sample["sha256"], sample["file_name"], "", recorded=False, data=sample["data"])
        assert tried.stands == "done"


def _restarted(app: App) -> None:
    """Forget what is remembered besides the database, as a restart does."""
    for opened in app.watching._open.values():
        opened.source.close()
    app.watching._open.clear()


def _taken(app: App, flow: Flow, said: Said, count: int) -> None:
    found = 0

    def looked() -> bool:
        nonlocal found
        looked = app.watching.look(flow, said)
        found += looked.count
        return found >= count

    eventually(looked)
    assert found == count


def _items(app: App) -> list[dict[str, Any]]:
    with app.database.reading() as connection:
        return list(listing.item_page(connection, most=99).rows)


def _waits(app: App) -> bool:
    with app.database.reading() as connection:
        return bool(intakes.waiting(connection))
