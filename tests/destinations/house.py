"""A service with the stand-in of records behind a connection, described and noted."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.destinations.service import ServiceDestination
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services

NOTES: dict[str, Any] = {
    "records": {
        "contacts": {
            "create": "makeContact",
            "find": {
                "operation": "listContacts",
                "by": {"email": "email", "external_id": "external_id"},
                "records": "data",
                "next": "next",
                "page": "cursor",
            },
            "set": {"operation": "setContact", "id": "id"},
            "key_field": "external_id",
            "found_within": 0.5,
            "attach": {
                "operation": "uploadFile",
                "given": "file_id",
                "then": "attachFile",
                "then_id": "id",
                "then_file": "file_id",
                "remove": {"operation": "detachFile", "id": "id", "file": "file_id"},
            },
        },
        "callers": {
            "create": "makeContact",
            "find": {"operation": "listContacts", "by": {"phone": "phone"}, "records": "data", "next": "next", "page": "cursor"},
            "set": {"operation": "setContact", "id": "id"},
            "telephones": ["phone"],
            "country": "AT",
            "found_within": 0,
        },
        "unsearched": {"create": "makeContact"},
        "rows": {
            "create": "addRow",
            "find": {"operation": "listRows", "by": {"row_key": "row_key"}, "records": "rows", "next": "next", "page": "page"},
            "set": {"operation": "setRow", "id": "number"},
            "id": "number",
            "key_field": "row_key",
            "found_within": 0,
        },
        "tasks": {"create": "makeTask", "once_header": "Idempotency-Key"},
        "paragraphs": {"append": {"operation": "appendParagraphs", "records": "children", "at_once": 100}},
        "listed": {
            "append": {
                "operation": "appendParagraphs",
                "records": "children",
                "at_once": 100,
                "listed": {"operation": "listParagraphs", "records": "children", "next": "next", "page": "cursor"},
            },
            "found_within": 0.2,
        },
    }
}


class House:
    """A service with the stand-in behind a connection."""

    def __init__(self, home: Path, services: Services) -> None:
        self.services = services
        self.held = services.world.records
        self.app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0, model_rest=1))
        told = self.app.connections.put("crm", f"{services.url}/records", Way("bearer"), TOKEN, "ada", "contacts")
        assert told["failing_since"] is None, told["told"]
        self.app.describing.put("crm", json.dumps(DESCRIPTION).encode())
        self.app.describing.note("crm", NOTES)

    def records(self, name: str, by: tuple[str, ...] = ()) -> ServiceDestination:
        return ServiceDestination(self.app.outside, "crm", name, by)
