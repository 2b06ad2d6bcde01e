"""The flow document: where items come from, what is done with them, and where rows go."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

from pydantic import Field

from metrikon.core.flows.kinds import Extract, Form, Step

_OPENED = "Whether each file in an archive, and each attachment of a mail, becomes an item of its own."


class FolderIntake(Form):
    """Files that appear in a folder. Taken when settled, once each."""

    kind: Literal["folder"]
    path: str = Field(..., min_length=1, description="The folder; relative paths start at the service's folder.")
    after: Literal["keep", "move"] = Field("keep", description="What becomes of a file that was taken: kept, or moved to `taken`.")
    settled: float = Field(1.0, ge=0, le=3600, description="Seconds a file must have stayed the same.")
    opened: bool = Field(False, description=_OPENED)


class UploadIntake(Form):
    """Files sent to the service by its API, its client, or the console."""

    kind: Literal["upload"]
    opened: bool = Field(False, description=_OPENED)


class XlsxDestination(Form):
    """A sheet of a workbook file."""

    kind: Literal["xlsx"]
    path: str = Field(..., min_length=1, pattern=r"\.xlsx$")
    sheet: str = Field("Rows", min_length=1, max_length=31)


class SqlDestination(Form):
    """A table of a database."""

    kind: Literal["sql"]
    url: str = Field(..., min_length=1, description="A database URL, e.g. sqlite:///ledger.db; relative paths start at the service's folder.")
    table: str = Field(..., pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,62}$")


Intake = Annotated[FolderIntake | UploadIntake, Field(discriminator="kind")]
Destination = Annotated[XlsxDestination | SqlDestination, Field(discriminator="kind")]


class Flow(Form):
    """A flow, as its author wrote it."""

    metrikon: Literal[1] = Field(..., description="Version of this form of document.")
    name: str = Field(..., pattern=r"^[a-z][a-z0-9-]{0,59}$")
    about: str = Field("", max_length=1000)
    intakes: list[Intake] = Field(..., min_length=1)
    destinations: dict[str, Destination] = Field(default_factory=dict)
    steps: list[Step] = Field(..., min_length=1)


def extracts(flow: Flow) -> Iterator[Extract]:
    """Every extract step of a flow, wherever it stands."""
    waiting = list(flow.steps)
    while waiting:
        step = waiting.pop(0)
        if step.extract:
            yield step.extract
        if step.choose:
            waiting += [inner for case in step.choose.cases for inner in case.steps] + list(step.choose.otherwise or ())
        if step.each:
            waiting += list(step.each.steps)
