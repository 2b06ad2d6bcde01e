"""The head of a request is looked at before its body is taken."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from waitress.parser import HTTPRequestParser
from waitress.utilities import Error

Early = Callable[[str, str, Mapping[str, str]], str]  # why a request is refused, by its method, path and headers; nothing where it may go on


SMALL = 65_536  # bytes of a body that costs less than looking at its head beforehand


class Unproved(Error):  # type: ignore[misc]
    """Nobody has proved who sends it."""

    code, reason = 401, "Unauthorized"


class Parser(HTTPRequestParser):  # type: ignore[misc]
    """Looks at the head of a request as soon as it is there."""

    def received(self, data: bytes) -> int:
        before = self.headers_finished
        consumed = int(super().received(data))
        completed = bool(self.completed)  # type: ignore[has-type]
        if self.headers_finished and not before and not completed and (self.chunked or self.content_length > SMALL):
            early: Early | None = getattr(self.adj, "early", None)
            why = early(self.command, self.path, self.headers) if early is not None else ""
            if why:
                self.error, self.completed, self.connection_close = Unproved(why), True, True
        return consumed
