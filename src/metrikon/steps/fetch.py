"""fetch: get a page or a file by HTTP, and keep it."""

from __future__ import annotations

from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.store import fetched


def run(call: Call, workshop: Workshop) -> Outcome:
    """The file, kept under its hash, and whether it changed since it was fetched before."""
    given = call.parameters
    wanted = Wanted(
        url=str(given["url"]),
        most_bytes=int(given["most_bytes"]),
        seconds=float(given["seconds"]),
        redirects=int(given["redirects"]),
        types=tuple(str(each) for each in given["types"]),
        robots=bool(given["robots"]),
    )
    try:
        found = workshop.fetch(wanted)
    except FetchFailed as error:
        raise StepFailed(str(error), again=error.again, wait=error.wait) from error

    def commit(connection: Transaction, at: int) -> Made:
        fetched.keep(connection, wanted.url, found, at)
        shown = {"file": found.file, "name": found.name, "type": found.media, "size": found.size, "url": found.url, "changed": found.changed}
        return Made("done", {"result": shown})

    return Outcome(commit=commit)
