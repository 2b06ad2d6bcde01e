"""What can go wrong for a caller."""

from __future__ import annotations

from typing import Any


class ClientError(Exception):
    """Base of all errors of the client."""


class Unreachable(ClientError):
    """The service did not answer: it is down, or the address is wrong."""


class ServiceError(ClientError):
    """The service answered with a problem (RFC 9457). `problem` holds all of it."""

    def __init__(self, status: int, problem: dict[str, Any]) -> None:
        super().__init__(str(problem.get("detail") or problem.get("title") or f"status {status}"))
        self.status = status
        self.problem = problem


class NotAllowed(ServiceError):
    """No token, or one that is not known (401, 403)."""


class NotFound(ServiceError):
    """There is no such thing (404)."""


class Refused(ServiceError):
    """What was sent is not right, or cannot be done as things stand (409, 413, 422)."""


class NotSettled(ClientError):
    """A run did not settle in the time allowed; `state` says where it is."""

    def __init__(self, run_id: str, state: str, seconds: float) -> None:
        super().__init__(f"Run {run_id} is {state} after {seconds:g} seconds.")
        self.run_id = run_id
        self.state = state
