"""What a command was given, and what it says where that cannot be used."""

from __future__ import annotations

from pathlib import Path


class CommandFailed(Exception):
    """A command that did not work: a message for people and the exit code."""

    def __init__(self, message: str, code: int = 1) -> None:
        super().__init__(message)
        self.code = code


def file_bytes(path: Path | str) -> bytes:
    """The bytes of a file that a command names. Raises `CommandFailed`."""
    try:
        return Path(path).read_bytes()
    except IsADirectoryError as error:
        raise CommandFailed(f"{path} is a folder. Name a file in it.", 2) from error
    except FileNotFoundError as error:
        raise CommandFailed(f"There is no file {path}.", 2) from error
    except OSError as error:
        raise CommandFailed(f"{path} cannot be read: {error.strerror}.", 2) from error


def file_text(path: Path | str) -> str:
    """The text of a file (UTF-8) that a command names. Raises `CommandFailed`."""
    data = file_bytes(path)
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        kind = "It is no text file" if b"\x00" in data[:4096] or data[:2] == b"PK" else "It is not saved as UTF-8"
        raise CommandFailed(f"{path} cannot be read as text. {kind}, at byte {error.start}. Save it as UTF-8, or name another file.", 2) from error
