"""What a person has confirmed of a service: which operations write, find and set its records, and what keeps one from being written twice."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pydantic import Field

from metrikon.core.flows.form import NAME, Form
from metrikon.core.services.description import Description, Operation
from metrikon.core.values.near import meant
from metrikon.core.values.phones import known_country

_HEADER = r"^[A-Za-z0-9-]+$"
_TELEPHONE = re.compile(r"(?:^|[._-])(?:tele)?phone(?:[._-]?number)?$|(?:^|[._-])(?:mobile|telephone|fax)$", re.IGNORECASE)


class Finding(Form):
    """How records are found."""

    operation: str = Field(..., max_length=100, description="The operation that lists or searches records.")
    by: dict[str, str] = Field(
        ...,
        min_length=1,
        max_length=10,
        description="Fields of a record, each with the parameter by which it is searched for; a list without search takes {}.",
    )
    records: str = Field(
        "", max_length=200, description="Where the records stand in its answer, such as data.items; all of the answer when left out."
    )
    next: str = Field("", max_length=200, description="Where the mark of the next page stands in its answer, such as paging.cursor.")
    page: str = Field("", max_length=100, description="The parameter that takes this mark.")
    any_spelling: bool = Field(
        False,
        description="Its search finds a telephone number however it is spelled, or all of them are kept in E.164: one search tells then, and no list is looked "
        "through.",
    )


class Setting(Form):
    """How fields of a record are set."""

    operation: str = Field(..., max_length=100, description="The operation that does it to one record.")
    id: str = Field(..., max_length=100, description="Its parameter that takes the id of the record.")


class Listing(Form):
    """How all that stands in one place is listed, in its order."""

    operation: str = Field(..., max_length=100, description="The operation that lists it; its path names the place as that of the append does.")
    records: str = Field(
        "", max_length=200, description="Where the elements stand in its answer, such as data.items; all of the answer when left out."
    )
    next: str = Field("", max_length=200, description="Where the mark of the next page stands in its answer, such as paging.cursor.")
    page: str = Field("", max_length=100, description="The parameter that takes this mark.")


class Appending(Form):
    """How many records are added in one call."""

    operation: str = Field(..., max_length=100, description="The operation that adds several.")
    records: str = Field(..., max_length=200, description="The field of its body that holds them.")
    at_once: int = Field(100, ge=1, le=10_000, description="The most that it takes in a call.")
    listed: Listing | None = Field(
        None,
        description="The operation that lists what is there: after a call that was cut off it is asked what has arrived, `found_within` seconds later. Without "
        "it a person looks.",
    )


class Detaching(Form):
    """How a file is taken from a record again."""

    operation: str = Field(..., max_length=100, description="The operation that removes it.")
    id: str = Field("", max_length=100, description="Its parameter that takes the id of the record; left out where the id of the file suffices.")
    file: str = Field(..., max_length=100, description="Its parameter that takes the id of the file.")


class Attaching(Form):
    """How files come to a record: in one call, or uploaded first and then named."""

    operation: str = Field(..., max_length=100, description="The operation that takes the file.")
    file: str = Field("file", max_length=100, description="The part of its form that holds the file.")
    id: str = Field("", max_length=100, description="Its parameter that takes the id of the record; left out where the file is only uploaded.")
    given: str = Field("", max_length=200, description="Where the id of the uploaded file stands in its answer.")
    then: str = Field("", max_length=100, description="The operation that names the uploaded file in the record.")
    then_id: str = Field("", max_length=100, description="Its parameter that takes the id of the record.")
    then_file: str = Field("", max_length=100, description="Its field that takes the id of the file.")
    remove: Detaching | None = Field(None, description="The operation that takes the file from the record again, so that this can be taken back.")


class Records(Form):
    """One kind of record of a service: which operations concern it."""

    create: str = Field("", max_length=100, description="The operation that makes one.")
    append: Appending | None = Field(None, description="The operation that adds several in one call, in order.")
    find: Finding | None = Field(None, description="The operation that finds some.")
    set: Setting | None = Field(None, description="The operation that sets fields of one.")
    remove: Setting | None = Field(None, description="The operation that removes one, so that what was written can be taken back.")
    attach: Attaching | None = Field(None, description="The operations that give one a file.")
    id: str = Field("id", max_length=100, description="Where the id stands in a record.")
    key_field: str = Field("", max_length=100, description="A field of the record that may hold our delivery key, so that it is found by it.")
    once_header: str = Field(
        "",
        max_length=100,
        pattern=r"^[A-Za-z0-9-]*$",
        description="The header by which the service takes the same request only once (idempotency key).",
    )
    remembered: int = Field(86_400, ge=1, le=31_536_000, description="Seconds for which it remembers such a key.")
    telephones: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Fields that hold telephone numbers: written in E.164 (+43…), looked for in that form and as people spell them, and the same however they are spelled.",
    )
    country: str = Field("", pattern=r"^([A-Z]{2})?$", description="The country of numbers that are given without one, such as AT.")
    found_within: float | None = Field(None, ge=0, le=86_400, description="Seconds within which what was made is found; unknown when left out.")


class RateHeaders(Form):
    """The headers by which a service tells how many calls it still takes."""

    left: str = Field(
        ..., max_length=100, pattern=_HEADER, description="The header with the number of calls that are left, such as X-RateLimit-Remaining."
    )
    again: str = Field(
        ...,
        max_length=100,
        pattern=_HEADER,
        description="The header that tells when they are counted anew, such as X-RateLimit-Reset: after so many seconds, or at a moment. It may be the same one.",
    )


class Notes(Form):
    """What was noted of a service. Kinds of records by names of one's own."""

    records: dict[str, Records] = Field(
        default_factory=dict, max_length=100, description="Kinds of records, each with the operations that concern it."
    )
    rate_headers: RateHeaders | None = Field(None, description="How it tells that it takes no more calls for now; nothing is asked until then.")
    a_minute: int = Field(0, ge=0, le=100_000, description="The most calls a minute; 0: as the service tells.")
    at_once: int = Field(0, ge=0, le=100, description="The most calls at once; 0: as usual.")


def wrong(notes: Notes, told: Description) -> Iterator[tuple[str, str]]:
    """Each place in notes that does not fit the description, and what is wrong there."""
    for name, each in notes.records.items():
        if not _is_name(name):
            yield f"records/{name}", "It is no name: small letters, figures and underscores, not a figure first."
        if not each.create and each.append is None and each.set is None:
            yield f"records/{name}", "It names no operation that makes a record (create, or append) or sets one (set). Name one."
        for used in _used(each):
            yield from _wrong_use(name, used, told)
        yield from _wrong_attaching(name, each)
        yield from _wrong_paths(name, each, told)
        yield from _wrong_numbers(name, each, told)
        if each.key_field and (each.find is None or each.key_field not in each.find.by):
            yield f"records/{name}/key_field", f"Records are not found by {each.key_field!r}: say under find/by which parameter takes it."


@dataclass(frozen=True)
class _Used:
    """An operation that notes name at a place, with the fields of it that they name."""

    place: str
    operation: str
    fields: tuple[str, ...] = ()


def _used(said: Records) -> Iterator[_Used]:
    """The operations that notes of a kind of record name."""
    yield _Used("create", said.create)
    if said.append:
        yield _Used("append/operation", said.append.operation, (said.append.records,))
        if listed := said.append.listed:
            yield _Used("append/listed/operation", listed.operation, (listed.page,))
    if said.find:
        yield _Used("find/operation", said.find.operation, (*said.find.by.values(), said.find.page))
    for place, setting in (("set", said.set), ("remove", said.remove)):
        if setting:
            yield _Used(f"{place}/operation", setting.operation, (setting.id,))
    if attach := said.attach:
        yield _Used("attach/operation", attach.operation, (attach.id,))
        yield _Used("attach/then", attach.then, (attach.then_id, attach.then_file))
        if remove := attach.remove:
            yield _Used("attach/remove/operation", remove.operation, (remove.id, remove.file))


def _wrong_use(name: str, used: _Used, told: Description) -> Iterator[tuple[str, str]]:
    """What is wrong with an operation that notes name."""
    if not used.operation:
        return
    found = told.operations.get(used.operation)
    if found is None:
        yield f"records/{name}/{used.place}", f"The service has no operation {used.operation!r}{meant(used.operation, sorted(told.operations))}"
        return
    for one in used.fields:
        if one and found.field_of(one) is None:
            known = ", ".join(sorted(part.name for part in found.fields)) or "none"
            yield f"records/{name}/{used.place}", f"The operation {used.operation} takes no {one!r}. It takes: {known}."


def _wrong_attaching(name: str, said: Records) -> Iterator[tuple[str, str]]:
    """A file can be taken back only where its id is known."""
    if said.attach and said.attach.remove and not said.attach.given:
        yield (
            f"records/{name}/attach/remove",
            "A file is removed by its id: say under attach/given where that stands in the answer of the operation that takes it.",
        )


def _wrong_paths(name: str, said: Records, told: Description) -> Iterator[tuple[str, str]]:
    """A list below a path is found by what stands in the path: a record must have it."""
    finds = told.operations.get(said.find.operation) if said.find is not None else None
    made = told.operations.get(said.append.operation if said.append else said.create)
    yield from _wrong_list(name, said, told, made)
    if said.find is None or finds is None or made is None:
        return
    for field in finds.fields:
        if field.place == "path" and field.name not in said.find.by.values() and made.field_of(field.name) is None:
            yield (
                f"records/{name}/find/operation",
                f"The path of {finds.name} takes {field.name!r}, which a record of {made.name} does not have: nothing can be found there.",
            )


def _wrong_list(name: str, said: Records, told: Description, made: Operation | None) -> Iterator[tuple[str, str]]:
    """What an append has brought is listed where it went: the path of the list names no more than that of the append."""
    listed = said.append.listed if said.append is not None else None
    lists = told.operations.get(listed.operation) if listed is not None else None
    if lists is None or made is None:
        return
    for field in lists.fields:
        if field.place == "path" and made.field_of(field.name) is None:
            yield (
                f"records/{name}/append/listed/operation",
                f"The path of {lists.name} takes {field.name!r}, which {made.name} does not have: what came there could not be listed.",
            )


def _wrong_numbers(name: str, said: Records, told: Description) -> Iterator[tuple[str, str]]:
    made = told.operations.get(said.append.operation if said.append else said.create)
    for field in said.telephones:
        if made is not None and not said.append and made.field_of(field) is None and field not in (said.find.by if said.find else ()):
            known = ", ".join(sorted(part.name for part in made.fields)) or "none"
            yield f"records/{name}/telephones", f"A record has no field {field!r}. It has: {known}."
    if said.country and not known_country(said.country):
        yield f"records/{name}/country", f"{said.country} is no country whose numbers are known: two letters as in ISO 3166, such as AT or GB."


def _is_name(name: str) -> bool:
    return re.fullmatch(NAME, name) is not None


def suggested(told: Description) -> Notes:
    """Notes that seem to fit, for a person to confirm: nothing is taken for granted that keeps a record from being written twice."""
    made: dict[str, Records] = {}
    for each in told.operations.values():
        if each.method != "POST" or "{" in each.path.rstrip("/").rpartition("/")[2]:
            continue
        name = _named(each.path)
        if not name or name in made:
            continue
        listed = next((one for one in told.operations.values() if one.method == "GET" and one.path.rstrip("/") == each.path.rstrip("/")), None)
        one_of = next((one for one in told.operations.values() if one.method in ("PATCH", "PUT") and _within(one.path, each.path)), None)
        made[name] = Records(
            create=each.name,
            telephones=[one.name for one in each.fields if one.place == "body" and one.kind == "text" and _TELEPHONE.search(one.name)],
            find=_finding(listed, each) if listed is not None else None,
            set=Setting(operation=one_of.name, id=one_of.path.rstrip("/").rpartition("{")[2].rstrip("}")) if one_of is not None else None,
        )
    return Notes(records=made)


def _named(path: str) -> str:
    last = next((part for part in reversed(path.split("/")) if part and "{" not in part), "")
    made = "".join(sign if sign.isalnum() else "_" for sign in last.lower()).strip("_")[:40]
    return made if made[:1].isalpha() else ""


def _within(path: str, base: str) -> bool:
    rest = path.rstrip("/").removeprefix(base.rstrip("/"))
    return rest.startswith("/{") and rest.endswith("}") and rest.count("/") == 1


def _finding(listed: Operation, made: Operation) -> Finding | None:
    asked = {each.name: each.name for each in listed.fields if each.place == "query" and made.field_of(each.name) is not None}
    if not asked:
        return None
    lists = [each.name for each in listed.answer if each.kind == "list"]
    return Finding(operation=listed.name, by=asked, records=lists[0] if len(lists) == 1 else "")


def summary(notes: Notes) -> dict[str, Any]:
    """What follows from notes, by kind of record: whether it enforces our key, finds what was written, or neither."""
    return {name: {"can": can(each), "most": each.append.at_once if each.append else 1} for name, each in notes.records.items()}


def can(said: Records) -> str:
    """What keeps a record from being written twice: "enforces", "finds" or "neither"."""
    if said.once_header:
        return "enforces"
    finder = said.append.listed if said.append is not None else said.find
    return "finds" if finder is not None and said.found_within is not None else "neither"
