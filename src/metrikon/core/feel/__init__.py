"""FEEL, the expression language of the OMG's DMN standard: exact decimals, three-valued logic, no side effects.

What flows need so far is here: literals, arithmetic, comparison, ranges, `if`, `for`, `some`,
`every`, `in`, `between`, lists, contexts, filters, paths and the functions in `functions.py`.
Names hold no spaces. Durations, times and decision tables are not built yet.
"""

from __future__ import annotations

from metrikon.core.feel.evaluate import FeelError, evaluate
from metrikon.core.feel.holes import Hole, fill, holes
from metrikon.core.feel.parse import BadExpression, names, parse

__all__ = ["BadExpression", "FeelError", "Hole", "evaluate", "fill", "holes", "names", "parse"]
