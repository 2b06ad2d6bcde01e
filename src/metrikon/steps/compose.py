"""compose: a document from a template, or nothing at all: what has no value is told before anything is made."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from metrikon.connections import webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.core.templates.filling import BadTemplate, Hindered
from metrikon.core.values.exact import loads
from metrikon.core.values.text import clean
from metrikon.drivers.composing import FORMS, MISSING, composed
from metrikon.ports.deaths import KILLS
from metrikon.ports.reader import Refused
from metrikon.ports.step import Call, Outcome, ReaderDied, StepFailed, WorkFailed, Workshop
from metrikon.steps.failing import not_reached

LARGEST = 20_000_000  # bytes of a template


def run(call: Call, workshop: Workshop) -> Outcome:
    """The document, kept as a file."""
    given = call.parameters
    template, name = str(given["template"]), _name(str(given["name"]))
    form, ending = (each.rpartition(".")[2].lower() for each in (template, name))
    if form not in FORMS or (ending != form and (form, ending) != ("html", "pdf")):
        raise StepFailed(
            f"From {template[-60:]!r} no {name[-60:]!r} is made: DOCX gives DOCX, ODT gives ODT, HTML gives HTML or PDF. Correct the flow, then continue."
        )
    answer = _composed(call, workshop, form, ending)
    if answer[:1] == MISSING:
        missing = loads(answer[1:])
        told = ", ".join(f"${{{each}}}" for each in missing[:10])
        raise StepFailed(
            f"{template}: {told} {'has' if len(missing) == 1 else 'have'} no value, so that no document was made. Correct the record, the template or the flow, then continue."
        )
    sha256 = workshop.keep(answer[1:])
    return Outcome({"file": sha256, "name": name}, made=(sha256,))


def _composed(call: Call, workshop: Workshop, form: str, ending: str) -> bytes:
    """What is made of the template, apart."""
    given, template = call.parameters, str(call.parameters["template"])
    request: dict[str, Any] = {
        "form": form,
        "ending": ending,
        "values": {str(each): value for each, value in given["values"].items()},
        "scope": dict(call.scope),
        "rows": _lists(given["rows"]),
        "pictures": _pictures(given["pictures"], workshop),
        "moment": call.moment.isoformat() if call.moment is not None else None,
    }
    with _template(call, workshop) as path:
        try:
            return workshop.apart.do(composed, {**request, "path": str(path)}, path, template)
        except Hindered as error:
            raise StepFailed(str(error)) from error
        except BadTemplate as error:
            raise StepFailed(f"{template}: {error} Correct the template or the flow, then continue.") from error
        except Refused as error:
            raise StepFailed(f"{template}: {error.reason}") from error
        except WorkFailed as error:
            raise StepFailed(f"{template}: {error}", again=True, cause="machine") from error
        except ReaderDied as error:
            raise StepFailed(f"{template}: {error}", again=call.attempt < KILLS, wait=0.2, cause="machine") from error


def _name(given: str) -> str:
    name = "".join("_" if sign in '/\\<>:"|?*' else sign for sign in clean(given)).strip().strip(".")
    return name[-200:]


@contextmanager
def _template(call: Call, workshop: Workshop) -> Iterator[Path]:
    """Where the template can be read."""
    path, connection = str(call.parameters["template"]), call.parameters.get("connection")
    if connection:
        with tempfile.TemporaryDirectory(prefix="metrikon-") as folder:
            place = Path(folder) / "template"
            place.write_bytes(_from_server(str(connection), path, workshop))
            yield place
        return
    place = workshop.home / path if not path.startswith("/") else Path(path)
    if problem := workshop.may_touch(place):
        raise StepFailed(f"{problem} Then continue.")
    try:
        size = place.stat().st_size
        with place.open("rb"):
            pass
    except FileNotFoundError as error:
        raise StepFailed(f"There is no template {place}. Put it there, or correct the flow; then continue.") from error
    except OSError as error:
        raise StepFailed(f"The template {place} cannot be read: {error.strerror or error}.") from error
    if size > LARGEST:
        raise StepFailed(f"The template {place} has more than {LARGEST / 1e6:.0f} MB.")
    yield place


def _from_server(connection: str, path: str, workshop: Workshop) -> bytes:
    try:
        data, _ = webdav.read(workshop.call, connection, path, LARGEST)
    except FetchFailed as error:
        raise not_reached(error) from error
    if data is None:
        raise StepFailed(f"There is no template {path} on the server of {connection}. Put it there, or correct the flow; then continue.")
    return data


def _lists(given: Mapping[str, Any]) -> dict[str, list[Any]]:
    bad = [name for name, value in given.items() if not isinstance(value, list)]
    if bad:
        raise StepFailed(f"`rows` of {bad[0]} is no list. Correct the flow, then continue.")
    return {str(name): list(value) for name, value in given.items()}


def _pictures(given: Mapping[str, Any], workshop: Workshop) -> dict[str, str]:
    """Where they lie, by name."""
    made = {}
    for name, sha256 in given.items():
        try:
            made[str(name)] = str(workshop.place_of(str(sha256)))
        except (KeyError, ValueError) as error:
            raise StepFailed(
                f"The picture {name} is no PNG or JPEG file that is kept here. Name one, such as ${{chart.png}}; then continue."
            ) from error
    return made
