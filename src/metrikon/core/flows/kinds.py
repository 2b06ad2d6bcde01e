"""The kinds of step: what each takes and what it gives.

From these models come the check of a flow when it is saved, the flow's JSON Schema and the
reference page. A parameter may be plain or hold `${ … }` holes.
"""

from __future__ import annotations

from decimal import Decimal
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

NAME = r"^[a-z][a-z0-9_]{0,39}$"


class Form(BaseModel):
    """Strict: an unknown parameter is an error, not a silent default."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Retry(Form):
    """How often and how patiently a step is tried again before its run is parked."""

    attempts: int = Field(4, ge=1, le=100, description="Tries in all.")
    wait: float = Field(2.0, ge=0, le=86400, description="Seconds before the second try; doubled each time, with jitter.")
    longest: float = Field(300.0, ge=0, le=86400, description="The longest wait, in seconds.")


class Read(Form):
    """Make a file readable: pages, words with boxes, tables."""

    file: str = Field("${item.file}", description="The file to read.")
    together: bool = Field(False, description="Read the files within an archive as one document, each page under the name of its file.")
    along: Any = Field(None, description="More files that are read as one with it: a list of hashes, or of parts of another read step.")


class Extract(Form):
    """Read the values of a record type from a document, each with its evidence."""

    document: str = Field(..., description="The result of a read step.")
    record_type: str = Field(..., description="Name of the record type.")
    only: Any = Field(
        None,
        description="One of several documents within the file: an element of `documents` of the read step. Without it a file that holds several stops.",
    )
    model: str | None = Field(None, description="Name of the model; the service's default when left out.")
    second: str | None = Field(None, description="Name of a stronger model that reads again what the first could not mend.")
    second_reading: str | None = Field(
        None,
        description="Name of the model that reads yes/no and options a second time, by itself (the first one will do); where the two differ a person must look.",
    )
    calls: int = Field(12, ge=1, le=200, description="Most requests to models for one document.")
    context: str = Field("", max_length=2000, description="What the model should know besides: who we are, what to expect.")


class Check(Form):
    """Check a record; one with findings that stop waits for a person."""

    record: str = Field(..., description="The result of an extract step.")
    review: Literal["on stop", "always", "never"] = Field("on stop", description="When a person must look.")
    unattended: Decimal = Field(
        Decimal("0.6"), ge=0, le=1, description="The least confidence of a value that is written unattended; below it a person must look."
    )


class Write(Form):
    """Write one row to a destination, once for its key."""

    to: str = Field(..., description="Name of the destination in this flow.")
    key: list[Any] = Field(..., min_length=1, description="What tells this row from all others, e.g. vendor, number, line.")
    columns: dict[str, Any] = Field(..., min_length=1, description="Column and value, in order.")
    ignore_case: bool = Field(False, description="Take keys for the same that differ only in capitals and blanks.")


class Stop(Form):
    """End the run here."""

    reason: str = Field(..., min_length=1, description="Why, in words for people.")


class Case(Form):
    """One branch: its steps are done when the condition holds and none before it did."""

    when: str = Field(..., description="A FEEL condition.")
    null_means: bool | None = Field(None, description="What a condition that comes out null counts as; unset parks the run.")
    steps: list[Step] = Field(..., min_length=1)


class Choose(Form):
    """Take the first branch whose condition holds, else `otherwise`."""

    cases: list[Case] = Field(..., min_length=1)
    otherwise: list[Step] = Field(default_factory=list)


class Each(Form):
    """Do the steps for each element of a list. `as` names the element; `<name>_number` counts from 1."""

    of: str = Field(..., description="A list.")
    name: Annotated[str, Field(alias="as", pattern=NAME)]
    steps: list[Step] = Field(..., min_length=1)


class Step(Form):
    """One step: a name and exactly one kind."""

    name: str = Field(..., pattern=NAME)
    about: str | None = Field(None, max_length=400)
    retry: Retry = Retry()
    read: Read | None = None
    extract: Extract | None = None
    check: Check | None = None
    choose: Choose | None = None
    each: Each | None = None
    write: Write | None = None
    stop: Stop | None = None

    @cached_property
    def kind(self) -> str:
        """The kind of the step."""
        return next(kind for kind in KINDS if getattr(self, kind) is not None)

    @property
    def parameters(self) -> Form:
        """The parameters of its kind."""
        found: Form = getattr(self, self.kind)
        return found

    @cached_property
    def plain(self) -> dict[str, Any]:
        """The parameters as plain data, holes still in them."""
        return self.parameters.model_dump(by_alias=True)


KINDS = ("read", "extract", "check", "choose", "each", "write", "stop")
CONTROL = ("choose", "each", "stop")
OUTWARD = ("extract", "write")  # their effect leaves the house: `begun` is journaled before it
VERSIONS = dict.fromkeys(KINDS, 1)

for _model in (Case, Choose, Each, Step):
    _model.model_rebuild()
