"""FEEL, the expression language of the OMG's DMN standard (1.5, chapter 10): exact decimals, three-valued logic, no side effects, no way out.

What differs from the standard is listed in docs/feel.md.
"""

from __future__ import annotations

from metrikon.core.feel.compile import evaluate, meets
from metrikon.core.feel.holes import Hole, fill, holes
from metrikon.core.feel.names import names
from metrikon.core.feel.parse import BadExpression, parse, parse_tests
from metrikon.core.feel.running import FeelError
from metrikon.core.feel.values import plain, text_of

__all__ = ["BadExpression", "FeelError", "Hole", "evaluate", "fill", "holes", "meets", "names", "parse", "parse_tests", "plain", "text_of"]
