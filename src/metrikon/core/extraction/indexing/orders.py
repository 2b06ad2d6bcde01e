"""Words in a document that speak to the program that reads it: never obeyed, and told to a person.

What stands in the document is data. A model may obey it all the same; what it then says can only become a value that is typed,
stands in the document in a place of its own, and adds up with the others; nothing else is in its reach. So the phrases are a
hint for the person who looks, and stop nothing by themselves: letters of business ask people to disregard reminders all the time.
"""

from __future__ import annotations

import re

from metrikon.core.documents.model import Page
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.findings import Finding

_FORGET = "ignor(?:e|es|ed|ing|iere|ieren|ier|ez|er|a|are|ar)|disregard|forget|override|overrule|bypass|vergiss|vergessen sie|missachte|oublie[rz]?|negeer|vergeet|olvida|dimentica"
_RULES = (
    "instructions?|prompts?|guidelines|system message|json schema|the schema|your rules|previous rules|anweisung(?:en)?|vorgaben|"
    "consignes|instructies|instrucciones|istruzioni"
)
_READER = (
    "ai|a\\.i\\.|artificial intelligence|language model|llm|large language model|chat ?bot|ai assistant|ki|sprachmodell|modèle de langage|taalmodel"
)
_FIELD = "total|grand total|amount|vendor|supplier|iban|invoice number|number|date|due date|net|tax|currency|fields?|value|document type|price|quantity|betrag|gesamtbetrag|rechnungsnummer"
_ORDERS = tuple(
    re.compile(pattern, re.IGNORECASE)
    for pattern in (
        rf"\b(?:{_FORGET})\b.{{0,60}}\b(?:{_RULES})\b",
        rf"\b(?:you are|you're|act as|as) an? (?:{_READER})\b",
        rf"\b(?:dear|hello|attention|note to|message to) (?:the |any |all |every )?(?:{_READER}|machine|robot|model|assistant)s?\b[ ,:.!-]",
        rf"\b(?:dear|hello|attention|note to|message to|for|an die|to) (?:the |any |all |every )?(?:{_READER}|extraction (?:model|program|system))s?\b[ ,:.!-]",
        r"^\W{0,4}(?:for|to) (?:the |any |all |every )(?:machine|robot|model|assistant)s?\b[ ,:.!-]",
        r"^\W{0,4}(?:system|assistant|developer)(?: prompt| message)?\W{0,3}:\s*(?:you|ignore|set|from now|answer|new|the (?:total|vendor|user))",
        rf"\b(?:set|change|overwrite|replace|output|return|answer|respond|report|setze|ändere)\b.{{0,30}}\b(?:{_FIELD})\b.{{0,20}}?(?:\bto\b|\bas\b|\bwith\b|\bauf\b|=|:)\s*[\"“'‘]?\S*[\d“\"']",
        r"\banswer(?: only)? with\b.{0,40}[{\"“]",
        r"\b(?:approve|accept|pay|book|release)\b.{0,40}\b(?:without (?:asking|checking|review|any check)|unattended|no questions asked|at once, (?:dear|machine))",
        r"</?\s*document\s*>|\bbegin(?:ning)? of (?:new )?(?:system )?(?:prompt|instructions)\b|\bnew instructions\s*:",
        r"\bthe (?:correct|real|true|actual) (?:total|amount|vendor|iban|number) (?:is|to (?:give|use|report) is)\b.{0,60}",
    )
)
# every order holds one of these: most pages hold none of them, and are done with at once
_ANCHORS = (
    "ignor", "disregard", "forget", "overr", "bypass", "vergiss", "vergessen", "missacht", "oubli", "negeer", "vergeet", "olvida", "dimentica",
    " ai", "a.i.", "artificial", "language model", "llm", "chatbot", "chat bot", "machine", "robot", "model", "assistant", "system", "program", "sprachmodell",
    "langage", "taalmodel", " ki",
    "developer", "set ", "change", "overwrite", "replace", "output", "return", "answer", "respond", "report", "setze", "ändere", "approve",
    "accept", "pay ", "book ", "release", "document>", "instructions", "the correct", "the real", "the true", "the actual",
)  # fmt: skip
QUOTED = 160  # characters that are told


def orders(index: Index) -> list[Finding]:
    """A finding that warns when visible words of the document give orders to its reader."""
    found = index.once("lines of orders", _found)
    if not found:
        return []
    told = dict.fromkeys((page.lines[number].text[:QUOTED], page.number) for page, number, _ in found)
    some = "; ".join(f"“{text}” (page {page})" for text, page in list(told)[:3])
    return [
        Finding(
            "orders",
            "warn",
            f"The document holds words that speak to the program that reads it: {some}. None was followed on purpose; compare the values.",
        )
    ]


def order_lines(index: Index) -> list[tuple[int, float, float]]:
    """(page, top, bottom) of the lines that hold such words, and of the lines that they go on to."""
    found = []
    for page, number, on in index.once("lines of orders", _found):
        for each in page.lines[number : number + 2 if on else number + 1]:
            found.append((page.number, each.box[1] + 1, each.box[3] - 1))
    return found


def _found(index: Index) -> list[tuple[Page, int, bool]]:
    """The lines that hold such words, by page and number; whether they go on to the next line."""
    found = []
    for page in index.document.pages:
        lines = [line.text for line in page.lines]
        low = "\n".join(lines).lower()
        anchors = [anchor for anchor in _ANCHORS if anchor in low]
        for number, text in enumerate(lines) if anchors else ():
            if not any(anchor in text.lower() for anchor in anchors):
                continue
            both = f"{text} {lines[number + 1]}" if number + 1 < len(lines) else text
            alone = any(pattern.search(text) for pattern in _ORDERS)
            if alone or any(pattern.search(both) for pattern in _ORDERS):
                found.append((page, number, not alone or not text.rstrip().endswith((".", "!"))))
    return found
