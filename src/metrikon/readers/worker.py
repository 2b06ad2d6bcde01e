"""The process in which untrusted bytes are read: it takes one request at a time on its standard input.

A frame is four bytes of length (big endian) and as many bytes. A request is JSON
{"op": "read" | "picture", "path", "page", "turned", "dots", "limits"}; the answer is a JSON frame
{"ok": true} or {"ok": false, "code", "reason"}, followed by a frame of bytes when it went well.
"""

from __future__ import annotations

import os
import resource
import struct
import sys
from pathlib import Path
from typing import IO, Any

from metrikon.core.documents.model import to_bytes
from metrikon.core.values.exact import dumps, loads
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.registry import picture, read


def send(stream: IO[bytes], data: bytes) -> None:
    """Write one frame."""
    stream.write(struct.pack(">I", len(data)) + data)
    stream.flush()


def receive(stream: IO[bytes]) -> bytes | None:
    """Read one frame; None at the end of the stream."""
    head = stream.read(4)
    if len(head) < 4:
        return None
    (length,) = struct.unpack(">I", head)
    data = stream.read(length)
    return data if len(data) == length else None


def handle(request: dict[str, Any]) -> bytes:
    """Do what a request asks. Raises `Refused`."""
    limits = Limits(**request.get("limits") or {})
    path = Path(request["path"])
    if path.stat().st_size > limits.max_bytes:
        raise Refused(
            "too-large", f"The file has {path.stat().st_size / 1e6:.1f} MB; the limit is {limits.max_bytes / 1e6:.1f} MB (setting max_bytes)."
        )
    data = path.read_bytes()
    if request["op"] == "picture":
        return picture(data, int(request["page"]), float(request["turned"]), int(request["dots"]))
    return to_bytes(read(data, limits))


def main() -> None:
    """Serve requests until the input ends."""
    incoming, outgoing = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what libraries print must not get between the frames
    memory = int(os.environ.get("METRIKON_READER_MEMORY_MB", "3000")) * 1_000_000
    resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    while (frame := receive(incoming)) is not None:
        try:
            answer = handle(loads(frame))
        except Refused as error:
            send(outgoing, dumps({"ok": False, "code": error.code, "reason": error.reason}))
        except MemoryError:
            reason = "Reading the file took more memory than is allowed (setting memory_mb)."
            send(outgoing, dumps({"ok": False, "code": "too-large", "reason": reason}))
        except Exception as error:  # a library stumbled over the file: the file is to blame, not the service
            reason = f"The file cannot be read: it is damaged in a way that its format does not allow ({type(error).__name__})."
            send(outgoing, dumps({"ok": False, "code": "broken", "reason": reason}))
        else:
            send(outgoing, dumps({"ok": True}))
            send(outgoing, answer)


if __name__ == "__main__":
    main()
