"""Files sent to the service."""

from __future__ import annotations

from pydantic import Field

from metrikon.core.flows.form import Form
from metrikon.ports.intake import IntakeKind

OPENED = "Whether each file in an archive, and each attachment of a mail, becomes an item of its own."


class Upload(Form):
    """Files sent to the service by its API, its client, or the console."""

    opened: bool = Field(False, description=OPENED)


KIND = IntakeKind("upload", Upload, lambda said: "files that are sent")
