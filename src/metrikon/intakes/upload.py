"""Files sent to the service."""

from __future__ import annotations

from pydantic import Field

from metrikon.core.flows.coming import OPENED, MayRepeat
from metrikon.core.flows.form import NAME
from metrikon.ports.intake import IntakeKind


class Upload(MayRepeat):
    """Files sent to the service by its API, its client, or the console."""

    name: str | None = Field(None, pattern=NAME, description="What its items stand under; its kind when left out.")
    opened: bool = Field(False, description=OPENED)


KIND = IntakeKind("upload", Upload, lambda said: "files that are sent", gives="Nothing.")
