"""search: results of a search service page by page (OpenSearch), or records of a described service by fields."""

from __future__ import annotations

from typing import Any

from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.core.services.opensearch import LARGEST, BadSearch, results_in, search_in
from metrikon.core.values.exact import as_kept
from metrikon.destinations.service import ServiceDestination
from metrikon.ports.destination import Broken, Busy
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import busy, not_reached

PAGES, SECONDS = 50, 30.0


def run(call: Call, workshop: Workshop) -> Outcome:
    """What was found, the first of it, and how many there are in all."""
    try:
        found, total = _by_words(call, workshop) if call.parameters.get("words") is not None else _records(call, workshop)
    except FetchFailed as error:
        raise not_reached(error) from error
    except Busy as error:
        raise busy(error) from error
    except (Broken, BadSearch) as error:
        raise StepFailed(f"{call.parameters['connection']}: {error} Correct the flow or the connection, then continue.") from error
    return Outcome({"list": found, "count": len(found), "total": total, "found": bool(found), "first": found[0] if found else None})


def _by_words(call: Call, workshop: Workshop) -> tuple[list[Any], int]:
    given = call.parameters
    connection, most, words = str(given["connection"]), int(given["most"]), " ".join(str(given["words"]).split())
    if not words:
        raise BadSearch("There are no words to search for.")
    told = workshop.call(Wanted(str(given["path"]), LARGEST, SECONDS, connection=connection))
    search = search_in(told.data or b"", told.url)
    found: list[dict[str, str]] = []
    seen: set[str] = set()
    total = None
    for page in range(PAGES):
        at = search.address(words, len(found), page, most)
        answer = workshop.call(Wanted(at, LARGEST, SECONDS, connection=connection))
        some, told_total = results_in(answer.data or b"", answer.url)
        total = told_total if told_total is not None else total
        new = [each for each in some if each["address"] not in seen]
        seen |= {each["address"] for each in new}
        found += new
        if not new or not search.paged or len(found) >= most or (total is not None and len(found) >= total):
            break
    return found[:most], total if total is not None else len(found)


def _records(call: Call, workshop: Workshop) -> tuple[list[Any], int]:
    given = call.parameters
    most = int(given["most"])
    found = []
    looked = ServiceDestination(workshop.outside, str(given["connection"]), str(given["records"]))
    for record in looked.find({str(name): value for name, value in given["by"].items()}, most):
        found.append(as_kept(record))
        if len(found) >= most:
            break
    return found, len(found)
