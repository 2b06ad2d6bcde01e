"""How the stand-in answers where something is to be judged: it counts words that a line of the prompt and a line of the document share. That is no judgement."""

from __future__ import annotations

import re
from typing import Any

_LINE = re.compile(r"^- ([^:\n]+?)(?:: (.*))?$", re.MULTILINE)
_WORD = re.compile(r"[^\W\d_]{4,}")
_EVERYWHERE = frozenset(
    [
        "does",
        "that",
        "this",
        "with",
        "from",
        "about",
        "which",
        "their",
        "they",
        "them",
        "what",
        "when",
        "where",
        "have",
        "been",
        "will",
        "would",
        "caller",
        "document",
    ]
)


def judged(head: str, document: str, schema: dict[str, Any]) -> dict[str, Any] | None:
    """The answer to a prompt that asks for words and what they decide; None for another one. `head`: the prompt before the document."""
    properties: dict[str, Any] = schema.get("properties") or {}
    told = {name.strip(): about or "" for name, about in _LINE.findall(head)}
    if set(properties) == {"words", "label"}:
        options = properties["label"].get("enum") or []
        found = {each: _best(f"{each} {told.get(each, '')}", document) for each in options[:-1]}
        label = max(found, key=lambda each: found[each][0], default=None)
        if label is None or found[label][0] == 0:
            return {"words": None, "label": options[-1] if options else None}
        return {"words": found[label][1], "label": label}
    if properties and all(set(each.get("properties") or ()) == {"about", "answer"} for each in properties.values()):
        answers = {}
        for name in properties:
            count, best = _best(f"{name} {told.get(name, '')}", document)
            answers[name] = {"about": best if count else "nothing", "answer": "yes" if count >= 2 else "no"}
        return answers
    if set(properties) == {"notes"}:
        return {"notes": [" ".join(line.split()) for line in document.splitlines() if line.strip()][:3]}
    if set(properties) == {"text"}:
        return {"text": " ".join(" ".join(line for line in document.splitlines() if line.strip()).split()[:30])}
    if properties and all(set(each.get("properties") or ()) == {"words", "reason", "missing", "mark"} for each in properties.values()):
        return {
            name: _mark(f"{name} {told.get(name, '')}", document, each["properties"]["mark"].get("enum") or [0]) for name, each in properties.items()
        }
    if properties and all(set(each.get("properties") or ()) == {"why", "material"} for each in properties.values()):
        lines = dict(line.split(". ", 1) for line in document.splitlines() if ". " in line)
        figures = {name: bool(re.search(r"\d", lines.get(name, ""))) for name in properties}
        return {name: {"why": "There are figures in it." if found else "", "material": "yes" if found else "no"} for name, found in figures.items()}
    return None


def _mark(about: str, document: str, scale: list[int]) -> dict[str, Any]:
    """The mark as far up its scale as words are shared."""
    count, words = _best(about, document)
    marks = sorted(scale)
    return {
        "words": words if count else None,
        "reason": f"{count} word{' is' if count == 1 else 's are'} shared." if count else "",
        "missing": "",
        "mark": marks[min(count, len(marks) - 1)],
    }


def _best(about: str, document: str) -> tuple[int, str]:
    """How many words of a text the best line shares with it, and that line's first words."""
    wanted = _stems(about)
    lines = [line.strip() for line in document.splitlines() if line.strip()]
    best = max(lines, key=lambda line: len(wanted & _stems(line)), default="")
    return len(wanted & _stems(best)), " ".join(best.split()[:20])


def _stems(text: str) -> set[str]:
    return {word.lower()[:5] for word in _WORD.findall(text.replace("_", " ")) if word.lower() not in _EVERYWHERE}
