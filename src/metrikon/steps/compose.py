"""compose: a document from a template, or nothing at all: what has no value is told before anything is made."""

from __future__ import annotations

import io
import threading
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from PIL import Image, UnidentifiedImageError

from metrikon.connections import webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.core.feel import evaluate
from metrikon.core.feel.scopes import Bound
from metrikon.core.templates import docx, odt, page
from metrikon.core.templates.filling import BadTemplate, Given, Picture
from metrikon.core.values.text import clean
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import not_reached

LARGEST = 20_000_000  # bytes of a template
_FORMS = {"docx": docx.made, "odt": odt.made, "html": page.made}
_PRINTING = threading.Lock()


def run(call: Call, workshop: Workshop) -> Outcome:
    """The document, kept as a file."""
    given = call.parameters
    template, name = str(given["template"]), _name(str(given["name"]))
    form, ending = (each.rpartition(".")[2].lower() for each in (template, name))
    if form not in _FORMS or (ending != form and (form, ending) != ("html", "pdf")):
        raise StepFailed(
            f"From {template[-60:]!r} no {name[-60:]!r} is made: DOCX gives DOCX, ODT gives ODT, HTML gives HTML or PDF. Correct the flow, then continue."
        )
    values = {str(each): value for each, value in given["values"].items()}

    def worked_out(expression: str, besides: Mapping[str, Any]) -> Any:
        scope: Any = Bound({**values, **besides}, call.scope)
        return evaluate(expression, scope, None, call.moment)

    try:
        made, missing = _FORMS[form](_template(call, workshop), Given(worked_out, _lists(given["rows"]), _pictures(given["pictures"], workshop)))
    except BadTemplate as error:
        raise StepFailed(f"{template}: {error} Correct the template or the flow, then continue.") from error
    if missing:
        told = ", ".join(f"${{{each}}}" for each in missing[:10])
        raise StepFailed(
            f"{template}: {told} {'has' if len(missing) == 1 else 'have'} no value, so that no document was made. Correct the record, the template or the flow, then continue."
        )
    if ending == "pdf":
        made = _printed(made)
    sha256 = workshop.keep(made)
    return Outcome({"file": sha256, "name": name}, made=(sha256,))


def _name(given: str) -> str:
    name = "".join("_" if sign in '/\\<>:"|?*' else sign for sign in clean(given)).strip().strip(".")
    return name[-200:]


def _template(call: Call, workshop: Workshop) -> bytes:
    path, connection = str(call.parameters["template"]), call.parameters.get("connection")
    if connection:
        try:
            data, _ = webdav.read(workshop.call, str(connection), path, LARGEST)
        except FetchFailed as error:
            raise not_reached(error) from error
        if data is None:
            raise StepFailed(f"There is no template {path} on the server of {connection}. Put it there, or correct the flow; then continue.")
        return data
    place = workshop.home / path if not path.startswith("/") else Path(path)
    if problem := workshop.may_touch(place):
        raise StepFailed(f"{problem} Then continue.")
    try:
        if place.stat().st_size > LARGEST:
            raise StepFailed(f"The template {place} has more than {LARGEST / 1e6:.0f} MB.")
        return place.read_bytes()
    except FileNotFoundError as error:
        raise StepFailed(f"There is no template {place}. Put it there, or correct the flow; then continue.") from error
    except OSError as error:
        raise StepFailed(f"The template {place} cannot be read: {error.strerror or error}.") from error


def _lists(given: Mapping[str, Any]) -> dict[str, list[Any]]:
    bad = [name for name, value in given.items() if not isinstance(value, list)]
    if bad:
        raise StepFailed(f"`rows` of {bad[0]} is no list. Correct the flow, then continue.")
    return {str(name): list(value) for name, value in given.items()}


def _pictures(given: Mapping[str, Any], workshop: Workshop) -> dict[str, Picture]:
    made = {}
    for name, sha256 in given.items():
        try:
            data = workshop.file(str(sha256))
            with Image.open(io.BytesIO(data), formats=("PNG", "JPEG")) as seen:
                made[str(name)] = Picture(data, (seen.format or "").lower(), *seen.size)
        except (KeyError, ValueError, UnidentifiedImageError, OSError, Image.DecompressionBombError) as error:
            raise StepFailed(
                f"The picture {name} is no PNG or JPEG file that is kept here. Name one, such as ${{chart.png}}; then continue."
            ) from error
    return made


def _printed(data: bytes) -> bytes:
    """A page as PDF (A4 unless its style says otherwise); nothing is fetched for it but what stands in it."""
    try:
        from weasyprint import HTML  # a second to load: only where something is printed
        from weasyprint.urls import URLFetcher
    except OSError as error:
        raise StepFailed(
            "PDFs are laid out with Pango, which this machine does not have. Install it (libpango-1.0-0, libpangoft2-1.0-0), then continue."
        ) from error
    with _PRINTING:
        return bytes(HTML(string=data.decode("utf-8"), url_fetcher=URLFetcher(allowed_protocols={"data"}), base_url=None).write_pdf())
