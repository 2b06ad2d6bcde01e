"""A crowd of one flow holds nobody of another up: neither at the workers nor at the readers."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from metrikon.app.assemble import App
from metrikon.drivers.fair import BEHALF, FairShare
from metrikon.store import runs
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
    claimed = app.database.write(lambda connection: runs.claim(connection, "test", app.clock.now(), 60_000, 40, {}, app.engine.settings.share))
    flows = [each.flow for each in claimed]
    assert flows.count("garden") == 35
    assert flows.count("urgent") == 1
    held = {"garden": 35}
    more = app.database.write(lambda connection: runs.claim(connection, "test", app.clock.now(), 60_000, 5, held, app.engine.settings.share))
    assert more == []
