"""fetch: get a page or a file by HTTP, and keep it; or a list that comes page by page."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any
from urllib.parse import urljoin

from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.core.feel import BadExpression, FeelError, evaluate
from metrikon.core.feel.scopes import Bound
from metrikon.core.services.request import Unfit, asked
from metrikon.core.values.exact import NotJson, as_kept, loads
from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.steps.failing import not_reached
from metrikon.store import fetched
from metrikon.store.fetched import KeptPage

MOST_ENTRIES = 20_000  # of a list that comes page by page, as many as `each` goes through


def run(call: Call, workshop: Workshop) -> Outcome:
    """The file, kept under its hash, and whether it changed since it was fetched before; or the elements of a list."""
    given = call.parameters
    if given.get("operation") is not None:
        return Outcome(_asked(call, workshop))
    wanted = Wanted(
        url=str(given["url"]),
        drawn=bool(given["drawn"]),
        most_bytes=int(given["most_bytes"]),
        seconds=min(float(given["seconds"]), call.seconds if call.seconds is not None else math.inf),
        redirects=int(given["redirects"]),
        types=tuple(str(each) for each in given["types"]),
        robots=bool(given["robots"]),
        connection=str(given.get("connection") or ""),
        good=(200, *(int(each) for each in given["answers"])),
    )
    if given["json"]:
        return Outcome(_plain(replace(wanted, more={"Accept": "application/json"}), workshop))
    if call.said.pages is not None:
        return Outcome(_pages(call, wanted, workshop))
    found = _fetched(wanted, workshop)

    shown = {"file": found.file, "name": found.name, "type": found.media, "size": found.size, "url": found.url, "changed": found.changed}
    shown["status"] = found.status
    if found.status != 200:
        return Outcome({**shown, "file": None, "name": None})

    def commit(connection: Transaction, at: int) -> Made:
        fetched.keep(connection, wanted.kept_as, found, at)
        return Made("done", {"result": shown})

    return Outcome(shown, commit)


def _asked(call: Call, workshop: Workshop) -> dict[str, Any]:
    """What an operation answers that changes nothing."""
    given, connection = call.parameters, str(call.parameters["connection"])
    try:
        operation = workshop.operation(connection, str(given["operation"]))
        if operation.method != "GET":
            raise StepFailed(f"The operation {operation.name} of {connection} may change something there. Records are made and set by `write`.")
        made = asked(operation, {str(name): value for name, value in given["given"].items()})
        headers = {"Accept": "application/json", **made.headers}
        wanted = Wanted(made.path, int(given["most_bytes"]), float(given["seconds"]), redirects=0, connection=connection, more=headers)
        found = workshop.call(replace(wanted, good=(*operation.good, *(int(each) for each in given["answers"]))))
    except Unfit as error:
        raise StepFailed(f"{error} Correct the flow, then continue.") from error
    except FetchFailed as error:
        raise not_reached(error) from error
    return _answer(found, operation.good)


def _plain(wanted: Wanted, workshop: Workshop) -> dict[str, Any]:
    """What an address answers, as values."""
    try:
        found = workshop.call(wanted)
    except FetchFailed as error:
        raise not_reached(error) from error
    return _answer(found, (200,))


def _answer(found: Fetched, good: Sequence[int]) -> dict[str, Any]:
    """The values of an answer. Of a status that is no good one, but was said to be an answer, what comes along may be no JSON: it has none then."""
    try:
        answer = as_kept(_as_json(found.data, found.url)) if found.data else None
    except StepFailed:
        if found.status in good:
            raise
        answer = None
    return {"answer": answer, "status": found.status}


def _fetched(wanted: Wanted, workshop: Workshop) -> KeptPage:
    try:
        found: KeptPage = workshop.fetch(wanted)
    except FetchFailed as error:
        raise not_reached(error) from error
    return found


def _pages(call: Call, wanted: Wanted, workshop: Workshop) -> dict[str, Any]:
    """The elements of all pages of a list."""
    pages, entries, seen, size = call.said.pages, [], set[str](), 0
    while wanted.url not in seen and len(seen) < pages.most:
        seen.add(wanted.url)
        kept = _fetched(wanted, workshop)
        size += kept.size
        if size > wanted.most_bytes:
            raise StepFailed(f"{call.parameters['url']} has more than the {wanted.most_bytes / 1e6:.1f} MB that are fetched, in {len(seen)} pages.")
        page = _as_json(workshop.file(kept.file), wanted.url)
        found = _said(pages.entries, page, call)
        if not isinstance(found, list):
            raise StepFailed(f"{wanted.url} holds no list under {pages.entries}. Correct the flow, then continue.")
        entries += found
        if len(entries) > MOST_ENTRIES:
            raise StepFailed(f"The list at {call.parameters['url']} has more than {MOST_ENTRIES} elements.")
        following = _said(pages.following, page, call) if pages.following is not None else None
        if not isinstance(following, str) or not following:
            break
        wanted = replace(wanted, url=urljoin(kept.url, following))
    return {"list": entries, "count": len(entries), "pages": len(seen)}


def _as_json(data: bytes, url: str) -> Any:
    try:
        return loads(data)
    except NotJson as error:
        raise StepFailed(f"{url} is no JSON: {error}.") from error


def _said(expression: str, page: Any, call: Call) -> Any:
    scope: Any = Bound({"page": page}, call.scope)
    try:
        return as_kept(evaluate(expression, scope, None, call.moment))
    except (BadExpression, FeelError) as error:
        raise StepFailed(f"{expression!r} could not be worked out: {error} Correct the flow, then continue.") from error
