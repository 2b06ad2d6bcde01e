"""The process in which untrusted bytes and answers are worked on: it takes one request at a time on its standard input.

A frame is four bytes of length (big endian) and as many bytes. A request is JSON {"op", "path", …},
the operations are those of `OPERATIONS`; the answer is a JSON frame {"ok": true} or {"ok": false,
"code", "reason"}, followed by a frame of bytes when it went well. What models answer is no more to be
trusted than what people send: it is parsed and grounded here too.
"""

from __future__ import annotations

import hashlib
import importlib
import os
import sys
import traceback
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from metrikon.core.documents.model import Document, Within, from_bytes, summary_bytes, to_bytes
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.several import cut
from metrikon.core.judging import tasks
from metrikon.core.records.types import unpacked_type
from metrikon.core.values.exact import dumps, loads
from metrikon.drivers import telling, wire
from metrikon.drivers.at_hand import AtHand
from metrikon.drivers.frames import NOT_STORED, OURS, SHORT, receive, send
from metrikon.drivers.paper import LocalPaper
from metrikon.drivers.rubbish import look_seldom
from metrikon.ports.apart import Work
from metrikon.ports.machine import short_of
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.recording import heard
from metrikon.readers.registry import found_format, parts, picture, read
from metrikon.store.files import DiskFiles

SELDOM = 50_000  # objects
KEPT = AtHand[LocalPaper](32, 50_000)  # documents that a process keeps at hand, and words in all of them


def handle(request: dict[str, Any]) -> bytes:
    """Do what a request asks. Raises `Refused`."""
    return OPERATIONS[request["op"]](request)


def _bytes(request: dict[str, Any]) -> tuple[bytes, Limits]:
    limits = Limits(**request.get("limits") or {})
    path = Path(request["path"])
    if path.stat().st_size > limits.max_bytes:
        raise Refused(
            "too-large", f"The file has {path.stat().st_size / 1e6:.1f} MB; the limit is {limits.max_bytes / 1e6:.1f} MB (setting max_bytes)."
        )
    return path.read_bytes(), limits


def _read(request: dict[str, Any]) -> bytes:
    data, limits = _bytes(request)
    return to_bytes(read(data, limits, request.get("passwords", ())))


def _keep(request: dict[str, Any]) -> bytes:
    data, limits = _bytes(request)
    return _stored(read(data, limits, request.get("passwords", ())), request)


def _heard(request: dict[str, Any]) -> bytes:
    data, limits = _bytes(request)
    sha256, found = hashlib.sha256(data).hexdigest(), found_format(data)
    document = heard(str(request["answer"]).encode(), sha256, found.format, str(request["name"]), limits)
    return _stored(msgspec.structs.replace(document, why=found.why), request)


def _stored(document: Document, request: dict[str, Any]) -> bytes:
    place = Path(request["place"])
    aside = place.with_name(f".new-{os.getpid()}")
    try:
        aside.write_bytes(to_bytes(document))
        os.replace(aside, place)
    except OSError:
        aside.unlink(missing_ok=True)  # half of it is of no use, and takes up room
        raise
    return summary_bytes(document)


def _parts(request: dict[str, Any]) -> bytes:
    data, limits = _bytes(request)
    files = DiskFiles(Path(request["root"]))
    kept = []
    for part, content in parts(data, limits, request.get("passwords", ())):
        files.put(content)
        kept.append(part)
    return dumps({"format": found_format(data).format, "parts": kept})


def _picture(request: dict[str, Any]) -> bytes:
    data, _ = _bytes(request)
    return picture(data, int(request["page"]), float(request["turned"]), int(request["dots"]), request.get("passwords", ()))


def _paper_of(path: str, only: str) -> tuple[LocalPaper, int]:
    """A document that was read before, by the place of its stored form, or one of several within it; and how many words it has."""
    try:
        document = from_bytes(Path(path).read_bytes())
    except (OSError, msgspec.MsgspecError) as error:
        raise Refused(NOT_STORED, "The document has to be read again.") from error
    if only:
        within = msgspec.json.decode(only.encode(), type=Within)
        document = cut(document, within.pages, within.box)
    return LocalPaper(Index(document)), sum(len(page.words) for page in document.pages)


def _paper(request: Mapping[str, Any]) -> LocalPaper:
    path, only = str(request["path"]), str(request.get("only") or "")
    return KEPT.get((path, only), lambda: _paper_of(path, only))


def _apart(request: dict[str, Any]) -> bytes:
    """A work, by its module and name: the service alone says which."""
    module, _, name = str(request["work"]).partition(":")
    work: Work = getattr(importlib.import_module(module), name)
    return work(request["request"])


def _asks(request: dict[str, Any]) -> bytes:
    kind = unpacked_type(str(request["kind"]).encode())
    return dumps(_paper(request).asks(kind, wire.asking_from(request["asking"])))


def _estimate(request: dict[str, Any]) -> bytes:
    kind = unpacked_type(str(request["kind"]).encode())
    return dumps(_paper(request).estimate(kind, wire.asking_from(request["asking"])))


def _patterns(request: dict[str, Any]) -> bytes:
    return dumps(_paper(request).patterns(unpacked_type(str(request["kind"]).encode())))


def _settle(request: dict[str, Any]) -> bytes:
    kind = unpacked_type(str(request["kind"]).encode())
    return wire.reading_bytes(_paper(request).settle(kind, wire.all_given(request["given"]), wire.asking_from(request["asking"])))


def _judging(request: dict[str, Any]) -> bytes:
    return dumps(_paper(request).judging(tasks.unpacked(request["task"]), wire.asking_from(request["asking"])))


def _judging_takes(request: dict[str, Any]) -> bytes:
    return dumps(_paper(request).judging_takes(tasks.unpacked(request["task"]), wire.asking_from(request["asking"])))


def _judged(request: dict[str, Any]) -> bytes:
    return dumps(_paper(request).judged(tasks.unpacked(request["task"]), wire.all_given(request["given"]), wire.asking_from(request["asking"])))


OPERATIONS: Mapping[str, Callable[[dict[str, Any]], bytes]] = {
    "read": _read,
    "keep": _keep,
    "heard": _heard,
    "parts": _parts,
    "picture": _picture,
    "apart": _apart,
    "asks": _asks,
    "estimate": _estimate,
    "patterns": _patterns,
    "settle": _settle,
    "judging": _judging,
    "judging_takes": _judging_takes,
    "judged": _judged,
}


READING = ("read", "keep", "heard", "parts", "picture", "apart")  # operations that look at the bytes of a file


def blamed(operation: str, error: Exception) -> dict[str, str]:
    """What an unforeseen error is told as: a library that stumbled over a file blames the file; anything after reading, or of the machine, is ours."""
    short = short_of(error)
    if short:
        return {"code": SHORT, "reason": short}
    name = type(error).__name__
    if operation in READING and not isinstance(error, OSError):
        return {"code": "broken", "reason": f"The file cannot be read: it is damaged in a way that its format does not allow ({name})."}
    where = traceback.extract_tb(error.__traceback__)[-1]
    said = error.strerror if isinstance(error, OSError) and error.strerror else name
    return {
        "code": OURS,
        "reason": f"An error of the service, not of the file, while it worked on the document: {said} ({Path(where.filename).name}, line {where.lineno}).",
    }


def main() -> None:
    """Serve requests until the input ends."""
    look_seldom(SELDOM)
    incoming, outgoing = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what libraries print must not get between the frames
    while (frame := receive(incoming)) is not None:
        try:
            answer = handle(loads(frame))
        except Refused as error:
            send(outgoing, dumps({"ok": False, "code": error.code, "reason": error.reason}))
        except telling.ERRORS as error:
            send(outgoing, dumps({"ok": False, "code": telling.TOLD_AS + type(error).__name__, "reason": str(error)}))
        except MemoryError:
            reason = "Reading the file took more memory than is allowed (setting memory_mb)."
            send(outgoing, dumps({"ok": False, "code": "too-large", "reason": reason}))
        except Exception as error:
            send(outgoing, dumps({"ok": False, **blamed(loads(frame)["op"], error)}))
        else:
            send(outgoing, dumps({"ok": True}))
            send(outgoing, answer)
