"""Findings: what a check reported."""

from __future__ import annotations

from typing import Any

import msgspec


class Finding(msgspec.Struct, frozen=True):
    """One thing a check reported. `level` is "stop" (a person must look) or "warn".

    `fields` are pointers of the values it concerns; `compared` holds what was set against what. `maker`: who made it ("reading", "record",
    "rules" …): only its maker takes it back.
    """

    check: str
    level: str
    message: str
    fields: tuple[str, ...] = ()
    compared: dict[str, str] = {}
    maker: str = ""

    def by(self, maker: str) -> Finding:
        """The same under the name of its maker."""
        return msgspec.structs.replace(self, maker=maker)


def stops(findings: list[Finding]) -> bool:
    """Whether any of them keeps the record from being written unattended."""
    return any(each.level == "stop" for each in findings)


def as_json(findings: list[Finding]) -> list[dict[str, Any]]:
    """Plain data, for storing and sending."""
    return [msgspec.to_builtins(each) for each in findings]


def from_json(data: list[dict[str, Any]]) -> list[Finding]:
    """Findings from plain data."""
    return msgspec.convert(data, list[Finding])
