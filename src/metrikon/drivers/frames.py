"""Frames between the service and its worker processes: four bytes of length (big endian) and as many bytes."""

from __future__ import annotations

import struct
from typing import IO

OURS = "our-error"  # the code of an error of the service or of the machine, which is not the file's fault
SHORT = "machine-short"  # the code of what the machine is short of
NOT_STORED = "not-stored"  # the code of a document whose stored form is not there, or was cut off by a crash


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
