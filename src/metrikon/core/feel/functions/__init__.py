"""The functions of the language, under their names in the standard (DMN 1.5, 10.3.4)."""

from __future__ import annotations

from metrikon.core.feel.functions import contexts, converting, lists, moments, numeric, ranges, text
from metrikon.core.feel.functions.declared import FUNCTIONS, Signature, call, call_named


def former_name(written: str) -> str | None:
    """The standard's name for one written as earlier versions had it, with underscores for blanks."""
    name = written.replace("_", " ")
    return name if "_" in written and name in FUNCTIONS else None


def written(name: str) -> str:
    """A function with its parameters, for people: the ways to call it, parted by lines."""
    return "\n".join(_way(name, each) for each in FUNCTIONS[name])


def _way(name: str, signature: Signature) -> str:
    shown = [f"{each.name}, …" if each.many else f"[{each.name}]" if each.optional else each.name for each in signature.parameters]
    return f"{name}({', '.join(shown)})"


__all__ = ["FUNCTIONS", "call", "call_named", "contexts", "converting", "former_name", "lists", "moments", "numeric", "ranges", "text", "written"]
