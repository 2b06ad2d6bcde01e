"""Calls about ways in: scripts by which records are typed into programs that have only a screen."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


class WayCalls:
    """The part of the client that is about ways in."""

    def _ask(self, method: str, path: str, *, body: Any = None, content: bytes | None = None, params: dict[str, Any] | None = None) -> Any:
        raise NotImplementedError

    def ways(self) -> list[dict[str, Any]]:
        """Every way in, in its newest version."""
        return list(self._ask("GET", "/api/ways")["items"])

    def put_way(self, name: str, text: str) -> int:
        """Keep a way in (YAML); its version."""
        return int(self._ask("PUT", f"/api/ways/{name}", content=text.encode())["version"])

    def try_way(self, name: str, values: Mapping[str, Any]) -> dict[str, Any]:
        """Try a way in up to its last press, which is not done: `result`, `stopped` with why it stopped, `read`, `chosen`, and `pictures` as data addresses."""
        return dict(self._ask("POST", f"/api/ways/{name}/try", body={"values": dict(values)}))
