"""The bases of what the API sends and takes, and what went out as it is shown."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field


class View(BaseModel):
    """Base of all of them."""

    model_config = ConfigDict(extra="ignore")


class Sent(BaseModel):
    """Base of what is sent to the service: a name that it does not know is refused, never left out in silence."""

    model_config = ConfigDict(extra="forbid")


class DiffersView(View):
    """A column that is there otherwise than it was to be."""

    column: str
    there: Any = None
    wanted: Any = None


class DeliveryView(View):
    """One thing that a run sent out: a row, a mail, a message, a call."""

    key: str
    run_id: str
    path: str
    target: str
    kind: str
    purpose: str = Field(..., description="write, set, look, move or restore.")
    state: str = Field(..., description="shown, entered, sending, written, there, otherwise, unsure, failed, corrected, returning or taken back.")
    receipt: str | None
    error: str | None
    left: list[str] = Field(default_factory=list, description="Columns that a person has set, and that were left.")
    differs: list[DiffersView] = Field(default_factory=list, description="Columns that are there otherwise.")
    told: str = Field("", description="What differs, in a sentence.")
    mark: str = Field("", description="The columns that are set when it is taken back, with their values; empty where it is removed.")


class RecordBeforeView(View):
    """What a record held before somebody corrected it after it was written."""

    values: dict[str, Any]
    at: int
    by: str
    comment: str
