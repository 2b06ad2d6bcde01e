"""Calls about who may come in, and which places flows may touch."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote


class PeopleCalls:
    """The part of the client that is about people, tokens and places; it takes the role admin."""

    def _ask(self, method: str, path: str, *, body: Any = None, content: bytes | None = None, params: dict[str, Any] | None = None) -> Any:
        raise NotImplementedError

    def people(self) -> list[dict[str, Any]]:
        """Everyone who may sign in, with their role."""
        return list(self._ask("GET", "/api/people")["items"])

    def put_person(self, name: str, *, role: str | None = None, password: str | None = None) -> dict[str, Any]:
        """Let a person in, or change their role or password; `password` of the answer is one that was made."""
        return dict(self._ask("PUT", f"/api/people/{quote(name, safe='')}", body={"role": role, "password": password}))

    def drop_person(self, name: str) -> None:
        """Let a person in no more."""
        self._ask("DELETE", f"/api/people/{quote(name, safe='')}")

    def tokens(self) -> list[dict[str, Any]]:
        """Tokens without their secrets."""
        return list(self._ask("GET", "/api/tokens")["items"])

    def add_token(self, name: str, role: str = "builder", days: int = 0) -> dict[str, Any]:
        """Make a token; its `secret` is in this answer alone. `days`: after which it ends; 0: never."""
        return dict(self._ask("POST", "/api/tokens", body={"name": name, "role": role, "days": days}))

    def drop_token(self, token_id: str) -> None:
        """Forget a token: it opens nothing any more."""
        self._ask("DELETE", f"/api/tokens/{token_id}")

    def places(self) -> list[dict[str, Any]]:
        """The folders, files and servers that flows may touch besides those of the service's folder."""
        return list(self._ask("GET", "/api/places")["items"])

    def allow_place(self, place: str, why: str = "") -> str:
        """Let flows touch a folder, a file or a server; how it is kept."""
        return str(self._ask("POST", "/api/places", body={"place": place, "why": why})["place"])

    def refuse_place(self, place: str) -> None:
        """Let flows touch a place no longer."""
        self._ask("DELETE", "/api/places", params={"place": place})
