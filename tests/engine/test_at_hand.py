"""What was worked out last is at hand, within limits."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from metrikon.drivers.at_hand import AtHand


@given(st.lists(st.tuples(st.integers(0, 8), st.integers(1, 9)), max_size=60))
def test_so_much_is_kept_of_what_was_asked_for_last(asked: list[tuple[int, int]]) -> None:
    sizes = dict(reversed(asked))
    kept: AtHand[int] = AtHand(4, 15)
    held: list[int] = []  # in the order they were asked for, the last one last
    for key, _ in asked:
        made: list[int] = []

        def make(key: int = key, made: list[int] = made) -> tuple[int, int]:
            made.append(key)
            return key * 10, sizes[key]

        assert kept.get(key, make) == key * 10
        assert (made == []) == (key in held)
        held = [*(each for each in held if each != key), key]
        while len(held) > 1 and (len(held) > 4 or sum(sizes[each] for each in held) > 15):
            held.pop(0)


def test_one_that_is_too_large_by_itself_is_kept_until_the_next() -> None:
    kept: AtHand[str] = AtHand(4, 10)
    assert kept.get("large", lambda: ("large", 1000)) == "large"
    assert kept.get("large", lambda: ("made again", 1000)) == "large"
    kept.get("small", lambda: ("small", 1))
    assert kept.get("large", lambda: ("made again", 1000)) == "made again"
