"""Templates filled apart: a template is a stranger's, and so is what is put into it. Nothing is fetched, and nothing of a value is worked out."""

from __future__ import annotations

import io
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from PIL import Image, UnidentifiedImageError

from metrikon.core.feel import evaluate
from metrikon.core.feel.scopes import Bound
from metrikon.core.templates import docx, odt, page
from metrikon.core.templates.filling import Given, Hindered, Picture
from metrikon.core.values.exact import dumps

FORMS = {"docx": docx.made, "odt": odt.made, "html": page.made}
MADE, MISSING = b"+", b"-"  # first byte of an answer: a document, or the holes that have no value


def composed(request: Mapping[str, Any]) -> bytes:
    """A document from the template at `path`. `form`: docx, odt or html; `ending`: that of the document; `values`, `scope`, `rows`: what holes speak of;
    `pictures`: paths by name; `moment`: now, as ISO 8601. Raises `BadTemplate`."""
    values: Mapping[str, Any] = request["values"]
    moment = datetime.fromisoformat(request["moment"]) if request["moment"] else None

    def worked_out(expression: str, besides: Mapping[str, Any]) -> Any:
        scope: Any = Bound({**values, **besides}, request["scope"])
        return evaluate(expression, scope, None, moment)

    pictures = {name: _picture(name, Path(path)) for name, path in request["pictures"].items()}
    made, missing = FORMS[request["form"]](Path(request["path"]).read_bytes(), Given(worked_out, request["rows"], pictures))
    if missing:
        return MISSING + dumps(missing)
    return MADE + (_printed(made) if request["ending"] == "pdf" else made)


def _picture(name: str, path: Path) -> Picture:
    try:
        data = path.read_bytes()
        with Image.open(io.BytesIO(data), formats=("PNG", "JPEG")) as seen:
            return Picture(data, (seen.format or "").lower(), *seen.size)
    except (ValueError, UnidentifiedImageError, OSError, Image.DecompressionBombError) as error:
        raise Hindered(f"The picture {name} is no PNG or JPEG file that is kept here. Name one, such as ${{chart.png}}; then continue.") from error


def _printed(data: bytes) -> bytes:
    """A page as PDF (A4 unless its style says otherwise); nothing is fetched for it but what stands in it."""
    try:
        from weasyprint import HTML  # a second to load: only where something is printed
        from weasyprint.urls import URLFetcher
    except OSError as error:
        raise Hindered(
            "PDFs are laid out with Pango, which this machine does not have. Install it (libpango-1.0-0, libpangoft2-1.0-0), then continue."
        ) from error
    return bytes(HTML(string=data.decode("utf-8"), url_fetcher=URLFetcher(allowed_protocols={"data"}), base_url=None).write_pdf())
