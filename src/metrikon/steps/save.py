"""save: a file put under a name, here or on a server (WebDAV); never over another one unless that is said. Taken back, it is removed, or what it took the place of stands there again."""

from __future__ import annotations

import hashlib
import os
import re
from pathlib import Path

from metrikon.connections import webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.ports.machine import short_of
from metrikon.ports.step import Call, Outcome, Sent, StepFailed, Workshop
from metrikon.steps.failing import not_reached

MOST_NUMBERS = 10_000
ALREADY = "there already"
NOT_KNOWN = "not known"  # whether a file was overwritten
CHANGED = "It was changed since, and stays."
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
        return _gave(_on_server(call, workshop, path, data))
    place = workshop.home / path if not path.startswith("/") else Path(path)
    if problem := workshop.may_touch(place):
        raise StepFailed(f"{problem} Then continue.")
    try:
        return _gave(_here(call, workshop, place, data))
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


def _gave(result: dict[str, str]) -> Outcome:
    over = result.get("over", "")
    return Outcome(result, made=[over] if over not in ("", NOT_KNOWN) else [], found=result["result"] == ALREADY)


def _is_ours(call: Call) -> dict[str, str]:
    """The result where the file is there as it was to be: made by this step where that was cut off, else by somebody else."""
    if not call.cut_off and call.attempt <= 1:
        return {"result": ALREADY}
    return {"result": "written", **({"over": NOT_KNOWN} if call.parameters["if_there"] == "overwrite" else {})}


def take_back(sent: Sent, workshop: Workshop) -> str:
    """Remove a file, or put back what it took the place of; why it stays where somebody has changed it since."""
    place, over = str(sent.result["place"]), str(sent.result.get("over") or "")
    if over == NOT_KNOWN:
        return "Whether another file stood there before is not known, since writing it was cut off. Look there, and remove it by hand."
    try:
        before = workshop.file(over) if over else None
    except (KeyError, ValueError):
        return "What it took the place of is kept no longer. Look there, and put it right by hand."
    connection, saved = sent.values.get("connection"), str(sent.values["file"])
    try:
        return _back_on_server(workshop, str(connection), place, saved, before) if connection else _back_here(workshop, Path(place), saved, before)
    except FetchFailed as error:
        raise not_reached(error) from error
    except OSError as error:
        raise StepFailed(f"{place} cannot be removed: {error.strerror or error}.", again=True, cause="machine") from error


def _back_here(workshop: Workshop, place: Path, saved: str, before: bytes | None) -> str:
    if problem := workshop.may_touch(place):
        return problem
    if place.is_symlink() or (place.exists() and (not place.is_file() or place.stat().st_size > LARGEST)):
        return CHANGED  # a link, a folder, a pipe: somebody put something else there
    if not place.exists():
        return ""
    if hashlib.sha256(place.read_bytes()).hexdigest() != saved:
        return CHANGED
    if before is None:
        place.unlink()
        return ""
    aside = _aside(place.parent, before, str(place))
    os.replace(aside, place)
    return ""


def _back_on_server(workshop: Workshop, connection: str, place: str, saved: str, before: bytes | None) -> str:
    held, tag = webdav.read(workshop.call, connection, place, LARGEST)
    if held is None:
        return ""
    if hashlib.sha256(held).hexdigest() != saved:
        return CHANGED
    if before is None:
        done = webdav.remove(workshop.call, connection, place, tag)
    else:
        done = webdav.write(workshop.call, connection, place, before, tag) not in (412, 423, 507)
    if not done:
        raise StepFailed(f"{place} is locked, or was changed just now.", again=True, cause="busy")
    return ""


def _aside(folder: Path, data: bytes, own: str) -> str:
    """Bytes in a file of their own beside the place where they are to be, on disk. `own`: what it is for, so that what was left by a kill is made anew."""
    aside = folder / f".saving-{hashlib.sha256(own.encode()).hexdigest()[:12]}"
    aside.unlink(missing_ok=True)
    handle = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)  # never through a link that somebody has put there
    with os.fdopen(handle, "wb") as out:
        out.write(data)
        out.flush()
        os.fsync(out.fileno())
    return str(aside)


def _here(call: Call, workshop: Workshop, place: Path, data: bytes) -> dict[str, str]:
    if_there, over = str(call.parameters["if_there"]), dict[str, str]()
    place.parent.mkdir(parents=True, exist_ok=True)
    for number in range(1, MOST_NUMBERS):
        target = Path(_named(str(place), number))
        if target.exists() or target.is_symlink():
            if target.is_file() and target.stat().st_size == len(data) and target.read_bytes() == data:
                return {"place": str(target), **_is_ours(call)}
            if if_there == "number":
                continue
            if if_there == "keep":
                raise StepFailed(f"{target} is there already, and holds something else. Move it away, or say in the flow what is done then.")
            over = {"over": workshop.keep(target.read_bytes())} if target.is_file() else {}
        aside = _aside(target.parent, data, f"{call.run_id} {call.path}")
        try:
            if if_there == "overwrite":
                os.replace(aside, target)
            else:
                os.link(aside, target)  # fails where another came meanwhile
            return {"place": str(target), "result": "written", **over}
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
                return {"place": target, **_is_ours(call)}
            ours = held is not None and (call.cut_off or call.attempt > 1) and data.startswith(held)  # as far as it came
            if held is not None and if_there == "number" and not ours:
                continue
            if held is not None and if_there == "keep" and not ours:
                raise StepFailed(f"{target} is on the server already, and holds something else. Move it away, or say in the flow what is done then.")
            status = webdav.write(workshop.call, connection, target, data, tag)
            if status in (423, 507):
                raise StepFailed(f"{target} is locked, or the server has no room left.", again=True, cause="busy")
            if status != 412:
                return {"place": target, "result": "written", **_over(workshop, held, partly=ours)}
    except FetchFailed as error:
        raise not_reached(error) from error
    raise StepFailed(f"There are {MOST_NUMBERS} files of the name {path} already.")


def _over(workshop: Workshop, held: bytes | None, *, partly: bool) -> dict[str, str]:
    """What was overwritten on a server, kept as a file. `partly`: it is as much of our own file as came before that was cut off."""
    if held is None:
        return {}
    return {"over": NOT_KNOWN if partly else workshop.keep(held)}
