"""A crowd of one flow holds nobody of another up: neither at the workers nor at the readers."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.drivers.fair import FairShare
from metrikon.engine.again import Chosen
from metrikon.engine.turns import NoTurn, Turns
from metrikon.engine.work import Work
from metrikon.ports.behalf import BEHALF
from metrikon.store import leases, runs
from metrikon.store.database import Database
from metrikon.store.leases import Claim, Shares
from metrikon.store.waiting import LONG, Waiting
from tests.engine.test_keeping import LaterClock
from tests.engine.test_language import HEAD


def test_whoever_has_the_fewest_gets_the_next_one() -> None:
    share: FairShare[int] = FairShare([1])
    order: list[str] = []
    first = share.take()

    def want(party: str) -> None:
        BEHALF.set(party)
        thing = share.take()
        order.append(party)
        time.sleep(0.01)
        share.give(thing)

    crowd = [threading.Thread(target=want, args=("crowd",)) for _ in range(5)]
    for each in crowd:
        each.start()
    time.sleep(0.1)
    one = threading.Thread(target=want, args=("one",))
    one.start()
    time.sleep(0.1)
    share.give(first)
    for each in [*crowd, one]:
        each.join()
    assert order.index("one") <= 1
    assert len(order) == 6
    assert share.idle() == [1]


def test_whoever_waits_for_a_thing_that_suits_it_gets_that_one() -> None:
    share: FairShare[str] = FairShare(["a", "b"])
    assert share.take(lambda thing: thing == "a") == "a"
    assert share.take(lambda thing: thing == "a") == "b", "another is better than none"
    order: list[tuple[str, str]] = []

    def want(what: str) -> None:
        order.append((what, share.take(lambda thing: thing == what)))

    waiting = [threading.Thread(target=want, args=(what,)) for what in ("a", "b")]
    for each in waiting:
        each.start()
        time.sleep(0.05)
    share.give("b")
    waiting[1].join(5)
    share.give("a")
    waiting[0].join(5)
    assert order == [("b", "b"), ("a", "a")]


def test_what_is_under_way_is_gone_on_with_before_more_is_begun(house: Callable[..., App]) -> None:
    app = house(flow=HEAD + "  - {name: paper, read: {file: '${item.file}'}}\n")
    first, second = (app.arrivals.take("garden", "upload", str(n), "a.txt", str(n).encode()).run_id for n in range(2))
    app.database.write(lambda connection: runs.move(connection, first, "ready", app.clock.now(), "", app.clock.now() + 1000))
    claimed = app.database.write(lambda connection: leases.claim(connection, "a", app.clock.now() + 2000, 30_000, 1))
    assert [each.run_id for each in claimed] == [first], "it was begun first, though it became ready last"
    claimed = app.database.write(lambda connection: leases.claim(connection, "a", app.clock.now(), 30_000, 5, claimed, Shares(1)))
    assert claimed == [], "its flow has its share"
    claimed = app.database.write(lambda connection: leases.claim(connection, "b", app.clock.now() + 60_000, 30_000, 5))
    assert [each.run_id for each in claimed] == [first, second], "a lease that has run out is due too"


def test_the_writer_commits_for_a_crowd_only_until_somebody_else_wants_something(tmp_path: Path) -> None:
    database = Database(tmp_path / "a.db")
    database.start()
    order: list[str] = []
    begun, gate = threading.Event(), threading.Event()

    def held(connection: object) -> None:
        begun.set()
        gate.wait(5)

    def submit(party: str, job: Callable[[object], None]) -> Future[None]:
        BEHALF.set(party)
        return database.submit(job)

    first = submit("crowd", held)
    begun.wait(5)
    crowd = [submit("crowd", lambda connection: order.append("crowd")) for _ in range(20)]
    other = submit("one", lambda connection: order.append("one"))
    other.add_done_callback(lambda done: order.append("one is committed"))
    BEHALF.set("")
    gate.set()
    for each in (first, other, *crowd):
        each.result(5)
    database.close()
    assert order[:2] == ["one", "one is committed"]
    assert order[2:] == ["crowd"] * 20


def test_a_crowd_has_its_turn_however_many_come_alone() -> None:
    waiting: Waiting[int] = Waiting()
    for number in range(3):
        waiting.put("crowd", number)
    waiting.put("one", 10)
    assert waiting.next() == ("one", 10)
    waiting.put("two", 11)
    time.sleep(LONG + 0.01)
    waiting.put("three", 12)
    assert [waiting.next() for _ in range(2)] == [("crowd", 0), ("two", 11)]
    assert waiting.more("crowd", 1) is None, "another has fewer"
    assert waiting.next() == ("crowd", 1)


def test_what_was_put_before_the_end_is_given_out_in_order_and_nothing_after_it() -> None:
    waiting: Waiting[int] = Waiting()
    assert all(waiting.put("a", number) for number in range(5))
    assert waiting.end()
    assert not waiting.end()
    assert not waiting.put("a", 9)
    party, first = waiting.next() or ("", -1)
    rest = [waiting.more(party, 1) for _ in range(5)]
    assert [first, *rest] == [0, 1, 2, 3, 4, None]
    assert waiting.next() is None


def test_nothing_is_lost_or_lent_twice_among_many() -> None:
    share: FairShare[int] = FairShare([1, 2])
    lent: set[int] = set()
    twice: list[int] = []
    lock = threading.Lock()

    def work(party: str) -> None:
        BEHALF.set(party)
        for _ in range(200):
            thing = share.take()
            with lock:
                if thing in lent:
                    twice.append(thing)
                lent.add(thing)
            with lock:
                lent.discard(thing)
            share.give(thing)

    every = [threading.Thread(target=work, args=(f"p{number % 3}",)) for number in range(9)]
    for each in every:
        each.start()
    for each in every:
        each.join(30)
    assert not twice
    assert sorted(share.idle()) == [1, 2]


def test_some_workers_are_left_to_other_flows(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(HEAD + "  - {name: a, set: {x: 1}}\n")
    app.catalog.put_flow(HEAD.replace("name: garden", "name: urgent") + "  - {name: a, set: {x: 1}}\n")
    for number in range(60):
        app.arrivals.take("garden", "upload", str(number), "a.txt", str(number).encode())
    app.arrivals.take("urgent", "upload", None, "b.txt", b"mail")
    claimed = app.database.write(
        lambda connection: leases.claim(connection, "test", app.clock.now(), 60_000, 40, (), Shares(app.engine.settings.share))
    )
    flows = [each.flow for each in claimed]
    assert flows.count("garden") == 35
    assert flows.count("urgent") == 1
    held = [each for each in claimed if each.flow == "garden"]
    more = app.database.write(
        lambda connection: leases.claim(connection, "test", app.clock.now(), 60_000, 5, held, Shares(app.engine.settings.share))
    )
    assert more == []


def claimed(app: App, most: int, held: Sequence[Claim] = (), shares: Shares | None = None) -> list[Claim]:
    return app.database.write(lambda connection: leases.claim(connection, "test", app.clock.now(), 60_000, most, held, shares))


def test_a_back_fill_comes_after_what_is_new_in_the_same_flow(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(HEAD + "  - {name: a, set: {b: 1}}\n")
    items = [app.arrivals.take("garden", "upload", str(number), "a.txt", str(number).encode()).item_id for number in range(30)]
    for claim in claimed(app, 40):
        Work(app.engine.bench, claim).go()
    assert len(app.again.several(Chosen("garden"), 30, "ada")) == 30
    fresh = app.arrivals.take("garden", "upload", None, "b.txt", b"urgent").run_id
    first = claimed(app, 10, shares=Shares(5))
    assert [each.behind for each in first if each.run_id == fresh] == [False]
    assert sum(each.behind for each in first) == 4, "the share is of the flow as a whole"
    assert claimed(app, 10, first, Shares(5)) == []
    assert len(items) == 30


def test_a_flow_that_says_so_is_worked_on_by_so_many_at_once(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(HEAD.replace("zone:", "limits: {at_once: 2}\nzone:") + "  - {name: a, set: {b: 1}}\n")
    for number in range(6):
        app.arrivals.take("garden", "upload", str(number), "a.txt", str(number).encode())
    shares = Shares(35, app.catalog.at_once())
    first = claimed(app, 40, shares=shares)
    assert len(first) == 2
    assert claimed(app, 40, first, shares) == []
    assert len(claimed(app, 40, first[:1], shares)) == 1


def test_turns_are_counted_by_the_minute_and_at_once() -> None:
    clock = LaterClock()
    turns = Turns(clock, lambda flow: 2 if flow == "garden" else 0)
    turns.call("garden")
    turns.call("garden")
    turns.call("other")
    with pytest.raises(NoTurn, match="The flow garden has had its 2 calls of this minute") as error:
        turns.call("garden")
    assert 59 < error.value.wait <= 60
    clock.ahead += 60_001
    turns.call("garden")
    with turns.at("seeds.example", 0, 1):
        with pytest.raises(NoTurn, match="1 calls of seeds"), turns.at("seeds.example", 0, 1):
            pass
        with turns.at("bulbs.example", 0, 1):
            pass
    with turns.at("seeds.example", 0, 1):
        pass
