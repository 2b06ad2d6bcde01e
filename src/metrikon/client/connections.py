"""Calls about connections."""

from __future__ import annotations

from typing import Any


class ConnectionCalls:
    """The part of the client that is about connections."""

    def _ask(self, method: str, path: str, *, body: Any = None, content: bytes | None = None, params: dict[str, Any] | None = None) -> Any:
        raise NotImplementedError

    def connections(self) -> list[dict[str, Any]]:
        """Every connection, without secrets."""
        return list(self._ask("GET", "/api/connections")["items"])

    def connection(self, name: str) -> dict[str, Any]:
        """One connection, without its secret."""
        return dict(self._ask("GET", f"/api/connections/{name}"))

    def put_connection(
        self,
        name: str,
        address: str,
        *,
        way: str = "none",
        secret: str | None = None,
        probe: str = "",
        user: str = "",
        sent_as: str = "",
        token_url: str = "",
        scope: str = "",
        consent_url: str = "",
    ) -> dict[str, Any]:
        """Keep a connection and test it: `told` says what came of that, `failing_since` whether it failed.

        `way`: none, bearer, basic (`user`), header or query (`sent_as`: the name of that header or parameter), client (`user`, `token_url`, `scope`),
        consent (these and `consent_url`; then `begin_consent`).
        """
        how = {"kind": way, "user": user, "name": sent_as, "token_url": token_url, "scope": scope, "consent_url": consent_url}
        body = {"address": address, "way": how, "probe": probe, "secret": secret}
        return dict(self._ask("PUT", f"/api/connections/{name}", body=body))

    def test_connection(self, name: str) -> dict[str, Any]:
        """Make a real call that changes nothing."""
        return dict(self._ask("POST", f"/api/connections/{name}/test"))

    def begin_consent(self, name: str) -> str:
        """Begin a person's consent to a connection: the address at which it is given."""
        return str(self._ask("POST", f"/api/connections/{name}/consent")["url"])

    def describe_connection(self, name: str, description: bytes = b"", *, at: str = "") -> dict[str, Any]:
        """Keep the OpenAPI description of a connection's service, given or had from it `at` a path: its operations, and notes that seem to fit."""
        return dict(self._ask("PUT", f"/api/connections/{name}/description", content=description, params={"at": at} if at else {}))

    def tell_operation(self, name: str, operation: str, told: dict[str, Any]) -> dict[str, Any]:
        """Tell an operation of a connection's service by hand: `method`, `path`, `about`, and what it `takes` (name, kind, wanted, place)."""
        return dict(self._ask("PUT", f"/api/connections/{name}/operations/{operation}", body=told))

    def remove_operation(self, name: str, operation: str) -> dict[str, Any]:
        """Know an operation no longer; not while the notes name it."""
        return dict(self._ask("DELETE", f"/api/connections/{name}/operations/{operation}"))

    def connection_description(self, name: str) -> dict[str, Any]:
        """What a connection's service says of itself, and what was noted of it."""
        return dict(self._ask("GET", f"/api/connections/{name}/description"))

    def note_connection(self, name: str, notes: dict[str, Any]) -> dict[str, Any]:
        """Confirm which operations make, find and set the records of a service; what follows from that is under `follows`."""
        return dict(self._ask("PUT", f"/api/connections/{name}/notes", body={"notes": notes}))

    def connection_calls(self, name: str) -> list[dict[str, Any]]:
        """The latest calls that were made by a connection, the newest first, without what was sent."""
        return list(self._ask("GET", f"/api/connections/{name}/calls")["items"])

    def held_names(self, name: str) -> list[dict[str, Any]]:
        """What a connection's place holds that a flow may name: folders of a mailbox, tables, records and operations of a service, files."""
        return list(self._ask("GET", f"/api/connections/{name}/holds")["items"])

    def remove_connection(self, name: str) -> None:
        """Keep a connection no longer; not while flows name it."""
        self._ask("DELETE", f"/api/connections/{name}")

    def new_key(self) -> int:
        """Seal every secret with a new key; how many."""
        return int(self._ask("POST", "/api/connections-key")["sealed"])
