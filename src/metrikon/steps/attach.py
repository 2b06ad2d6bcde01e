"""attach: a file given to a record of a described service, in one call or in two."""

from __future__ import annotations

from metrikon.connections.fetching import FetchFailed
from metrikon.core.values.text import clean
from metrikon.destinations.service import ServiceDestination
from metrikon.ports.destination import Broken, Busy, Unsure
from metrikon.ports.step import Call, Outcome, Sent, StepFailed, Workshop
from metrikon.steps.failing import busy, not_reached

LARGEST = 50_000_000  # bytes


def run(call: Call, workshop: Workshop) -> Outcome:
    """The record, and the id of the file."""
    given = call.parameters
    try:
        data = workshop.file(str(given["file"]))
    except (KeyError, ValueError) as error:
        raise StepFailed(f"{str(given['file'])[:80]!r} is no file that is kept here. Name one, such as ${{item.file}}.") from error
    if len(data) > LARGEST:
        raise StepFailed(f"The file has {len(data) / 1e6:.0f} MB; at most {LARGEST / 1e6:.0f} MB are handed over.")
    by = {str(field): value for field, value in given["by"].items()}
    empty = [field for field, value in by.items() if value in (None, "")]
    if empty:
        raise StepFailed(f"{', '.join(empty)} has no value, by which the record is found. Correct the record or the flow, then continue.")
    name = clean(str(given["name"])).replace('"', "'").replace("/", "_").replace("\\", "_").strip()[-150:] or "file"
    try:
        service = ServiceDestination(workshop.outside, str(given["connection"]), str(given["records"]), list(by))
        made = service.attach(by, name, data, f"{call.run_id} {call.path}", cut_off=call.cut_off)
    except FetchFailed as error:
        raise not_reached(error) from error
    except Busy as error:
        raise busy(error) from error
    except Unsure as error:
        raise StepFailed(str(error), unsure={"place": "", "id": ""}) from error
    except Broken as error:
        raise StepFailed(f"{error} Then continue.") from error
    return Outcome({"place": made.place, "id": made.file, "record": made.record})


def take_back(sent: Sent, workshop: Workshop) -> str:
    """Take the file from the record again; why it stays where that cannot be done."""
    record, file = str(sent.result.get("record") or ""), str(sent.result.get("id") or "")
    if not file or not record:
        return "The service told no id of the file or of its record, by which it could be removed. Look there, and remove it by hand."
    try:
        return ServiceDestination(workshop.outside, str(sent.values["connection"]), str(sent.values["records"])).detach(record, file)
    except FetchFailed as error:
        raise not_reached(error) from error
    except Busy as error:
        raise busy(error) from error
    except (Broken, Unsure) as error:
        return str(error)
