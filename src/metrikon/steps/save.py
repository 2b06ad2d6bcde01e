"""save: a file put under a name, here or on a server (WebDAV); never over another one unless that is said."""

from __future__ import annotations

import os
import re
import tempfile
from pathlib import Path

from metrikon.connections import webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.ports.machine import short_of
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import not_reached

MOST_NUMBERS = 10_000
LARGEST = 200_000_000  # bytes of a file that is compared
_BAD = re.compile(r'[\x00-\x1f\x7f<>:"|?*\\]')


def run(call: Call, workshop: Workshop) -> Outcome:
    """Where the file is, and whether it was there already."""
    given = call.parameters
    try:
        data = workshop.file(str(given["file"]))
    except (KeyError, ValueError) as error:
        raise StepFailed(f"{str(given['file'])[:80]!r} is no file that is kept here. Name one, such as ${{item.file}}.") from error
    path = _path(str(given["to"]))
    if given.get("connection"):
        return Outcome(_on_server(call, workshop, path, data))
    place = workshop.home / path if not path.startswith("/") else Path(path)
    if problem := workshop.may_touch(place):
        raise StepFailed(f"{problem} Then continue.")
    try:
        return Outcome(_here(place, data, str(given["if_there"])))
    except OSError as error:
        if short_of(error):
            raise
        raise StepFailed(f"{place} cannot be written: {error.strerror or error}.", again=True, cause="machine") from error


def _path(given: str) -> str:
    """A path without parts that lead elsewhere: what stands in a document is no path."""
    parts = [_BAD.sub("_", part).strip() for part in given.split("/")]
    if any(part in ("..", ".") for part in parts) or not parts[-1]:
        raise StepFailed(f"{given[:120]!r} is no place for a file: it has no name, or leads out of its folder.")
    return "/".join(part[:200] for number, part in enumerate(parts) if part or number == 0)


def _named(path: str, number: int) -> str:
    before, dot, ending = path.rpartition(".")
    return path if number == 1 else f"{before} {number}.{ending}" if dot and "/" not in ending else f"{path} {number}"


def _here(place: Path, data: bytes, if_there: str) -> dict[str, str]:
    place.parent.mkdir(parents=True, exist_ok=True)
    for number in range(1, MOST_NUMBERS):
        target = Path(_named(str(place), number))
        if target.exists() or target.is_symlink():
            if target.is_file() and target.stat().st_size == len(data) and target.read_bytes() == data:
                return {"place": str(target), "result": "there already"}
            if if_there == "number":
                continue
            if if_there == "keep":
                raise StepFailed(f"{target} is there already, and holds something else. Move it away, or say in the flow what is done then.")
        handle, aside = tempfile.mkstemp(dir=target.parent, prefix=".saving-")
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            if if_there == "overwrite":
                os.replace(aside, target)
            else:
                os.link(aside, target)  # fails where another came meanwhile
            return {"place": str(target), "result": "written"}
        except FileExistsError:
            continue
        finally:
            Path(aside).unlink(missing_ok=True)
    raise StepFailed(f"There are {MOST_NUMBERS} files of the name {place} already.")


def _on_server(call: Call, workshop: Workshop, path: str, data: bytes) -> dict[str, str]:
    connection, if_there = str(call.parameters["connection"]), str(call.parameters["if_there"])
    try:
        webdav.make_folders(workshop.call, connection, path)
        for number in range(1, MOST_NUMBERS):
            target = _named(path, number)
            held, tag = webdav.read(workshop.call, connection, target, LARGEST)
            if held == data:
                return {"place": target, "result": "there already"}
            ours = held is not None and (call.cut_off or call.attempt > 1) and data.startswith(held)  # as far as it came
            if held is not None and if_there == "number" and not ours:
                continue
            if held is not None and if_there == "keep" and not ours:
                raise StepFailed(f"{target} is on the server already, and holds something else. Move it away, or say in the flow what is done then.")
            status = webdav.write(workshop.call, connection, target, data, tag)
            if status in (423, 507):
                raise StepFailed(f"{target} is locked, or the server has no room left.", again=True, cause="busy")
            if status != 412:
                return {"place": target, "result": "written"}
    except FetchFailed as error:
        raise not_reached(error) from error
    raise StepFailed(f"There are {MOST_NUMBERS} files of the name {path} already.")
