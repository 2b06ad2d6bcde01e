"""Every value must stand in the document, unless its field says that it is not printed."""

from __future__ import annotations

from collections.abc import Iterator

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked, in_words
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import leaves, shape

LEAST_HELD = 0.4  # the same, of a figure with which a sum or a product holds
LEAST_SURE = 0.6  # of the words of a value, below which it was not read well enough


def run(checked: Checked) -> Iterator[Finding]:
    """Every value must stand in the document, unless its field says that it is not printed."""
    kind, record, evidence = checked.kind, checked.record, checked.evidence
    for pointer, value in leaves(record):
        given = evidence.get(pointer)
        if given is not None and given.sure >= LEAST_SURE and given.found:
            continue
        field = kind.by_shape.get(shape(pointer))
        if value is None or field is None or not field.needs_evidence:
            continue
        if given is None or not given.found:
            message = f"{field.title} {in_words(value)} stands nowhere in the document."
            yield Finding("unsupported", "stop", message, (pointer,))
        elif given.sure < LEAST_SURE and given.how != "person" and not (checked.reckoned.held.get(pointer) and given.sure >= LEAST_HELD):
            message = f"{field.title} {in_words(value)} was read with little certainty ({given.sure:.0%})."
            yield Finding("unsure", str(field.ours.get("unsure", "stop")), message, (pointer,))


CHECK = Check(
    ("unsupported", "unsure"),
    "Whether each value stands in the document, and was read well.",
    run,
    mendable=("unsupported",),
    of_rows=("unsupported",),
    rank=40,
)
