"""What the checks of a record look at."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any

from metrikon.core.records.evidence import Evidence
from metrikon.core.records.sums import Reckoned
from metrikon.core.records.types import RecordType


@dataclass(frozen=True)
class Checked:
    """A record with its type, where its values stand, and its arithmetic."""

    kind: RecordType
    record: Mapping[str, Any]
    evidence: Mapping[str, Evidence]
    reckoned: Reckoned


def day(value: Any) -> date | None:
    """A date (RFC 3339, full-date) as such; None when it is none."""
    try:
        return date.fromisoformat(value) if isinstance(value, str) else None
    except ValueError:
        return None


def in_words(value: Any) -> str:
    """A value as a person says it."""
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)
