"""Calls about intakes."""

from __future__ import annotations

from typing import Any


class IntakeCalls:
    """The part of the client that is about intakes."""

    def _ask(self, method: str, path: str, *, body: Any = None, content: bytes | None = None, params: dict[str, Any] | None = None) -> Any:
        raise NotImplementedError

    def intakes(self, flow: str) -> list[dict[str, Any]]:
        """The intakes of a flow, with where each stands: what it has taken and let go, whether it waits for a yes, since when it fails."""
        return list(self._ask("GET", f"/api/flows/{flow}/intakes")["items"])

    def preview_intake(self, flow: str, intake: str, *, listed: int = 50) -> dict[str, Any]:
        """What an intake would take now, and from what to what that would cost (`low`, `high`); nothing is taken."""
        return dict(self._ask("GET", f"/api/flows/{flow}/intakes/{intake}/preview", params={"listed": listed}))

    def test_intake(self, flow: str, intake: str) -> str:
        """Make a real look at an intake that changes nothing; what it found."""
        return str(self._ask("POST", f"/api/flows/{flow}/intakes/{intake}/test")["told"])

    def agree_to_intake(self, flow: str, intake: str) -> dict[str, Any]:
        """Let an intake take what is there; the intake."""
        return dict(self._ask("POST", f"/api/flows/{flow}/intakes/{intake}/yes"))

    def make_address(self, flow: str, intake: str, *, secret: str | None = None, fresh: bool = False) -> dict[str, Any]:
        """Give an intake that things are sent to an address and a new secret: `address` and `secret`, told this once."""
        return dict(self._ask("POST", f"/api/flows/{flow}/intakes/{intake}/address", body={"secret": secret, "fresh": fresh}))

    def let_go(self, flow: str, intake: str) -> dict[str, Any]:
        """What an intake did not take: the latest under `items`, each with the reason, and how many in all under `count`."""
        return dict(self._ask("GET", f"/api/flows/{flow}/intakes/{intake}/let-go"))

    def take_one(self, flow: str, name: str, intake: str = "") -> list[dict[str, Any]]:
        """Take in one thing that an intake of a flow holds, by its name or identity, though the flow may be switched off; its items and runs."""
        return list(self._ask("POST", f"/api/flows/{flow}/take", body={"name": name, "intake": intake})["items"])
