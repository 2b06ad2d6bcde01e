"""Context functions (10.3.4.10). Contexts are never changed: what is put into one makes another."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from metrikon.core.feel.functions.declared import function
from metrikon.core.feel.running import Running
from metrikon.core.feel.values import native


@function("get value", "m: context", "key: text")
def _value(m: Mapping[str, Any], key: str) -> Any:
    return native(m.get(key))


@function("get value", "m: context", "keys: list")
def _value_at(m: Mapping[str, Any], keys: list[Any]) -> Any:
    at: Any = m
    for key in keys:
        if not isinstance(at, Mapping) or not isinstance(key, str):
            return None
        at = at.get(key)
    return native(at)


@function("get entries", "m: context", running=True)
def _entries(running: Running, m: Mapping[str, Any]) -> Any:
    running.make(len(m))
    return [{"key": name, "value": native(value)} for name, value in m.items()]


@function("context", "entries: list", running=True)
def _context(running: Running, entries: list[Any]) -> Any:
    running.make(len(entries))
    found: dict[str, Any] = {}
    for each in entries:
        if not isinstance(each, Mapping) or not isinstance(each.get("key"), str) or "value" not in each or each["key"] in found:
            return None
        found[each["key"]] = each["value"]
    return found


@function("context put", "context: context", "key: text", "value: any", running=True)
def _put(running: Running, context: Mapping[str, Any], key: str, value: Any) -> Any:
    running.make(len(context) + 1)
    return {**context, key: value}


@function("context put", "context: context", "keys: list", "value: any", running=True)
def _put_at(running: Running, context: Mapping[str, Any], keys: list[Any], value: Any) -> Any:
    if not keys or not all(isinstance(key, str) for key in keys) or len(keys) > 100:
        return None
    running.make(len(context) + 1)
    if len(keys) == 1:
        return {**context, keys[0]: value}
    inner = context.get(keys[0])
    made = _put_at(running, inner if isinstance(inner, Mapping) else {}, keys[1:], value)
    return None if made is None or (inner is not None and not isinstance(inner, Mapping)) else {**context, keys[0]: made}


@function("context merge", "contexts: list", running=True)
def _merge(running: Running, contexts: list[Any]) -> Any:
    found: dict[str, Any] = {}
    for each in contexts:
        if not isinstance(each, Mapping):
            return None
        running.make(len(each))
        found.update(each)
    return found
