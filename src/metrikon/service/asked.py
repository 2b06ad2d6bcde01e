"""What goes into the API: requests are checked by these types."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from metrikon.service.sent_views import Sent, View

SHOWN = r"^[^\x00-\x1f\x7f/\\]+$"  # a name that can be shown in a line
Role = Literal["upload", "reader", "reviewer", "builder", "admin"]
LARGEST = 2**63 - 1  # of a number that the database compares with


class SignIn(View):
    name: str = Field(..., max_length=80)
    password: str = Field(..., max_length=400)


class NamePath(View):
    name: str = Field(..., max_length=60)


class IdPath(View):
    id: str = Field(..., pattern=r"^[0-9a-z]{26}$")


class HashPath(View):
    sha256: str = Field(..., pattern=r"^[0-9a-f]{64}$")


class PagePath(HashPath):
    page: int = Field(..., ge=1, le=100_000)


class PictureQuery(View):
    dots: int = Field(110, ge=1, le=600, description="Dots an inch; the nearest of 20, 110 and 160 is drawn.")


class ListQuery(View):
    """Paging: `cursor` is the `next` of the page before."""

    cursor: str = Field("", max_length=300)
    limit: int = Field(50, ge=1, le=500)


class ItemQuery(ListQuery):
    flow: str = Field("", max_length=60)
    state: str = Field("", max_length=120, description="States, parted by commas.")
    q: str = Field("", max_length=200, description="Part of a file name or of a value.")
    since: int = Field(0, ge=0, le=LARGEST, description="Milliseconds since 1970.")


class UploadQuery(View):
    name: str = Field("", description="The name of the file, where the body is its bytes.")


class RunQuery(ListQuery):
    flow: str = Field("", max_length=60)
    state: str = Field("", max_length=120)
    item: str = Field("", max_length=26)


class RecordQuery(ListQuery):
    record_type: str = Field("", max_length=60)
    state: str = Field("", max_length=120)
    q: str = Field("", max_length=200)
    sort: str = Field("-id", max_length=20, pattern=r"^-?(id|title|state|model|item)$")


class CsvQuery(View):
    record_type: str = Field(..., max_length=60)
    state: str = Field("", max_length=120)
    q: str = Field("", max_length=200)


class ChangesQuery(View):
    after: int = Field(-1, ge=-1, le=LARGEST, description="Number of the last change seen; -1 for where the feed stands now.")


class SpendQuery(View):
    days: int = Field(28, ge=1, le=366, description="Days back from today, which counts.")


class StartBody(Sent):
    """What a record type is started from: exactly one of these."""

    row: dict[str, Any] | None = Field(None, description="An example row.")
    heads: list[str] | None = Field(None, max_length=200, description="Heads of a sheet.")
    document: str | None = Field(None, pattern=r"^[0-9a-f]{64}$", description="The hash of a file that came in: a sample.")
    title: str = Field("record", max_length=60)


class CheckBody(Sent):
    values: dict[str, Any]


class ApproveBody(Sent):
    values: dict[str, Any] | None = None
    comment: str = Field("", max_length=2000)


class RefuseBody(Sent):
    comment: str = Field(..., min_length=1, max_length=2000)


class CancelBody(Sent):
    comment: str = Field("", max_length=2000)


class LeaveQuery(View):
    leave: bool = Field(False, description="Whether elements of lists whose failures are gathered are left out, in place of being tried again.")


class ContinueQuery(LeaveQuery):
    unsure: Literal["", "went", "again"] = Field(
        "", description="Of what may have gone out: whether a person has seen that it went, or it is to be done again. Left out, it waits on."
    )
    otherwise: Literal["", "keep", "renew"] = Field(
        "",
        description="Of what is there with other values than the run has: whether it stays as it is there, or is set, or sent again. Left out, it waits on.",
    )
    looked: bool = Field(
        False, description="At the first row that the run waits with: it is written then, and those of other runs that wait for that."
    )


class SwitchBody(Sent):
    running: bool
    paused: bool = Field(False, description="Whether what comes in waits, and no run is worked on.")


class WhyQuery(View):
    why: str = Field("", max_length=500, description="A word why, kept with the version.")


class PutFlowQuery(WhyQuery):
    on: bool = Field(False, description="Its intakes that look outside need no yes: what they would take was seen.")
    off: bool = Field(False, description="A flow that is new is kept switched off: it takes nothing in until somebody has looked and switches it on.")


class PasswordsBody(Sent):
    """The passwords that open what a flow takes in; none forgets those before."""

    passwords: list[str] = Field(..., max_length=50)


class TokenBody(Sent):
    name: str = Field(..., min_length=1, max_length=80, pattern=SHOWN)
    role: Role = Field("builder", description="upload, reader, reviewer, builder or admin.")
    days: int = Field(0, ge=0, le=36_500, description="After so many days it ends; 0: never.")


class PersonPath(View):
    name: str = Field(..., min_length=1, max_length=80, pattern=SHOWN)


class PersonBody(Sent):
    role: Role | None = Field(None, description="reader, reviewer, builder or admin; a new person is a reviewer, the first an admin.")
    password: str | None = Field(None, min_length=8, max_length=400, description="Without one, the password stays as it is, or one is made.")


class PlaceBody(Sent):
    place: str = Field(
        ..., min_length=2, max_length=500, description="A folder or file (its whole path), or a server, such as db.garden.example:5432/ledger."
    )
    why: str = Field("", max_length=500)


class PlaceQuery(View):
    place: str = Field(..., min_length=2, max_length=500)
