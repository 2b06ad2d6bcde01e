"""What a check declares: under which names its findings go, and what may be done about them.

A check is one module with one `CHECK`. Those of a reading stand in `core/extraction/doubting/checks`, those of a record in
`core/records/checking`; both folders are walked, so that adding one is adding a file. What others ask of a finding (may a model mend
it, are rows asked for again, is the answer still good) is asked of its check by name.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Generic, TypeVar

from metrikon.core.records.findings import Finding

T = TypeVar("T")


@dataclass(frozen=True)
class Check(Generic[T]):
    """One check.

    `names`: what its findings are called. `looks_at`: in a sentence, for people. `run`: its findings. `models_only`: whether it is of
    answers of models alone, and not of the reader that knows its places. `mendable`: names of findings that a model asked once more can
    mend. `of_rows`: names for which the rows of a table are asked for anew. `spoils`: whether an answer it finds fault with is not given again.
    `rank`: its findings are told in this order, and by the names of the modules where it is the same.
    """

    names: tuple[str, ...]
    looks_at: str
    run: Callable[[T], Iterable[Finding]]
    models_only: bool = False
    mendable: tuple[str, ...] = ()
    of_rows: tuple[str, ...] = ()
    spoils: bool = False
    rank: int = 50


def found_in(package: str) -> Iterator[Check[T]]:
    """The checks of a package in their order."""
    folder = importlib.import_module(package)
    names = sorted(each.name for each in pkgutil.iter_modules(folder.__path__))
    checks: list[Check[T]] = [importlib.import_module(f"{package}.{name}").CHECK for name in names]
    yield from sorted(checks, key=lambda check: check.rank)
