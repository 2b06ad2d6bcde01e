"""How often a long-lived process looks for objects that hold each other: seldom, since what it makes are trees that go by themselves."""

from __future__ import annotations

import gc


def look_seldom(made: int) -> None:
    """What is loaded by now stays, and is not looked through again; the rest is looked through after so many objects more were made."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(made, 20, 20)
