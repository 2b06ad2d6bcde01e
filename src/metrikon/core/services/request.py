"""A request made from the values of fields, and values found in an answer."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any
from urllib.parse import quote, urlencode

from metrikon.core.services.description import Field, Operation
from metrikon.core.values.exact import dumps


class Unfit(ValueError):
    """A value that a field does not take; the message says why."""


@dataclass(frozen=True)
class Asked:
    """What is asked of a service: method, path after its address, body, headers."""

    method: str
    path: str
    body: bytes | None = None
    headers: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Part:
    """A file in a form: the name of the part that holds it, its own name, its bytes."""

    name: str
    file: str
    data: bytes


def asked(operation: Operation, values: Mapping[str, Any], *, over: Mapping[str, Any] | None = None, form: Part | None = None) -> Asked:
    """A request with these values, each by the name of its field. `over`: a body that takes the place of one made from fields; `form`: a file that is sent
    with them as a form (RFC 7578), or is the body itself where the operation takes no form. Raises `Unfit`."""
    path, query, headers, body = operation.path, list[tuple[str, str]](), dict[str, str](), dict[str, Any]()
    for name, value in values.items():
        known = operation.field_of(name)
        if value is None and (known is None or known.place != "body"):
            continue
        if known is None:
            raise Unfit(
                f"The operation {operation.name} takes no {name!r}. It takes: {', '.join(each.name for each in operation.fields) or 'nothing'}."
            )
        fit = _fit(known, value)
        if known.place == "path":
            if str(fit) in ("", ".", ".."):
                raise Unfit(f"{known.name} is {str(fit)!r}, which is no part of an address.")
            path = path.replace(f"{{{known.name}}}", quote(_text(fit), safe=""))
        elif known.place == "query":
            query += [(known.name, _text(each)) for each in (fit if isinstance(fit, list) else [fit])]
        elif known.place == "header":
            if any(ord(sign) < 32 or ord(sign) > 126 for sign in _text(fit)):
                raise Unfit(f"{known.name} is sent in a header, and may hold plain signs in one line alone.")
            headers[known.name] = _text(fit)
        else:
            _put(body, known.name, fit)
    missing = [
        each.name
        for each in operation.fields
        if each.wanted and "." not in each.name and each.place in ("path", "query") and values.get(each.name) is None
    ]
    if over is None and form is None:
        missing += [each.name for each in operation.fields if each.place == "body" and each.wanted and _lacks(body, each.name)]
    if missing or "{" in path:
        raise Unfit(f"The operation {operation.name} wants {', '.join(dict.fromkeys(missing)) or path} as well. Give it a value.")
    told = f"{path.lstrip('/')}{'?' + urlencode(query) if query else ''}"
    if form is not None:
        whole, media = _with_file(operation, body, form)
        return Asked(operation.method, told, whole, {**headers, "Content-Type": media})
    content = dumps(over if over is not None else body) if operation.method in ("POST", "PUT", "PATCH") and (body or over is not None) else None
    return Asked(operation.method, told, content, {**headers, **({"Content-Type": "application/json"} if content is not None else {})})


def _with_file(operation: Operation, body: Mapping[str, Any], form: Part) -> tuple[bytes, str]:
    if operation.media and not operation.media.startswith("multipart/"):
        return form.data, "application/octet-stream"
    mark = hashlib.sha256(form.data).hexdigest()[:40]  # stands nowhere in what it parts, as far as can be told
    parts = [
        f'--{mark}\r\nContent-Disposition: form-data; name="{_in_header(name)}"\r\n\r\n{_text(value)}\r\n'.encode() for name, value in body.items()
    ]
    head = f'--{mark}\r\nContent-Disposition: form-data; name="{_in_header(form.name)}"; filename="{_in_header(form.file)}"\r\nContent-Type: application/octet-stream\r\n\r\n'
    return b"".join([*parts, head.encode(), form.data, f"\r\n--{mark}--\r\n".encode()]), f"multipart/form-data; boundary={mark}"


def _in_header(text: str) -> str:
    """A name in quotes, as browsers send it."""
    return text.replace('"', "%22").replace("\r", " ").replace("\n", " ")


def body_of(operation: Operation, values: Mapping[str, Any]) -> dict[str, Any]:
    """One record as a body, its nested fields within each other."""
    made: dict[str, Any] = {}
    for name, value in values.items():
        _put(made, name, value)
    return made


def _lacks(body: Mapping[str, Any], name: str) -> bool:
    """Whether a wanted field has no value; one within a context that is left out is not wanted."""
    parts = name.split(".")
    at: Any = body
    for part in parts[:-1]:
        if not isinstance(at, Mapping) or part not in at:
            return False
        at = at[part]
    return not isinstance(at, Mapping) or at.get(parts[-1]) is None


def _put(body: dict[str, Any], name: str, value: Any) -> None:
    *before, last = name.split(".")
    for part in before:
        inner = body.setdefault(part, {})
        body = inner if isinstance(inner, dict) else {}
    body[last] = value


def _fit(known: Field, value: Any) -> Any:
    """A value as a field takes it: nothing is turned into something else in silence."""
    if value is None or not known.kind:
        return value
    if known.choices and str(value) not in known.choices:
        raise Unfit(f"{known.name} takes one of {', '.join(known.choices)}, and {str(value)[:60]!r} is none of them.")
    good = {
        "text": isinstance(value, str | int | Decimal) and not isinstance(value, bool),
        "date": isinstance(value, str),
        "date and time": isinstance(value, str),
        "number": isinstance(value, int | Decimal) and not isinstance(value, bool),
        "yes/no": isinstance(value, bool),
        "list": isinstance(value, list),
        "context": isinstance(value, Mapping),
    }[known.kind]
    if known.kind == "list" and not good and known.holds in ("text", "number"):
        return [_fit(Field(known.name, known.place, known.holds), value)]
    if not good:
        raise Unfit(f"{known.name} takes {_TOLD[known.kind]}, and {str(value)[:60]!r} is none. Correct the mapping.")
    return _text(value) if known.kind == "text" and not isinstance(value, str) else value


_TOLD = {
    "text": "text",
    "date": "a date (text)",
    "date and time": "a date with a time (text)",
    "number": "a number",
    "yes/no": "true or false",
    "list": "a list",
    "context": "names with values",
}


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:f}" if isinstance(value, Decimal) else str(value)


def at(answer: Any, path: str) -> Any:
    """What stands in an answer under a path with points; None where nothing does."""
    for part in filter(None, path.split(".")):
        if isinstance(answer, list) and part.isdecimal() and int(part) < len(answer):
            answer = answer[int(part)]
        elif isinstance(answer, Mapping):
            answer = answer.get(part)
        else:
            return None
    return answer
