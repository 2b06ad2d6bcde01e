"""The demo as it ships: its files, its flow, and how well a run of it did."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

from metrikon.core.records.pointers import leaves
from metrikon.core.values.exact import loads

FLOW = "supplier-invoices"
REQUESTS = "order-requests"
ROUNDS = "garden-rounds"
CALLS = "visitor-line"
POST = "garden-post"
LISTS = "price-lists"
REPORT = "month-report"
TOURS = "tour-bookings"
OLD_LEDGER = "old-ledger"
TO_ENTER = "01-fernhill-nurseries.pdf"
RIGHT = ".right.json"
AGAIN = "sent-again"  # in the name of a file that repeats another in other bytes


@dataclass(frozen=True)
class Expected:
    """A file of the demo and what is right for it."""

    name: str
    outcome: str
    because: str
    record: dict[str, Any]


@dataclass(frozen=True)
class Score:
    """How a record compares with the right one: values right, wrong, missing, and given though there is none."""

    wanted: int
    right: int
    filled: int
    wrong: tuple[str, ...]

    @property
    def completeness(self) -> float:
        """Share of the right record's values that were filled in at all."""
        return self.filled / self.wanted if self.wanted else 1.0


def folder() -> Path:
    """Where the demo's files lie."""
    return Path(str(resources.files("metrikon.demo")))


def post_folder() -> Path:
    """Where the mixed post lies."""
    return Path(str(resources.files("metrikon.demo").joinpath("mixed")))


def flow_text() -> str:
    """The demo's flow."""
    return (folder() / "flows" / f"{FLOW}.yaml").read_text("utf-8")


def requests() -> Iterator[tuple[str, bytes]]:
    """The notes of the demo's second flow, by name."""
    yield from ((path.name, path.read_bytes()) for path in sorted((folder() / "requests").glob("*.txt")))


def rounds_flow() -> str:
    """The demo's flow of notes that are sent by a form."""
    return (folder() / "flows" / f"{ROUNDS}.yaml").read_text("utf-8")


def requests_texts() -> tuple[str, str, str]:
    """Record type, decision table and flow of the order requests."""
    found = [
        folder() / "record_types" / "order_request.json",
        folder() / "decision_tables" / "approvals.yaml",
        folder() / "flows" / f"{REQUESTS}.yaml",
    ]
    kind, table, flow = (path.read_text("utf-8") for path in found)
    return kind, table, flow


def calls() -> Iterator[tuple[str, bytes]]:
    """Calls to the visitor line, by name; each as it was written down."""
    yield from ((path.name, path.read_bytes()) for path in sorted(post_folder().glob("2*-visitor-line-call.*")) if RIGHT not in path.name)


def letters() -> Iterator[tuple[str, bytes]]:
    """Applications for a post, by name."""
    yield from ((path.name, path.read_bytes()) for path in sorted((folder() / "applications").glob("*.pdf")))


def price_lists(month: str) -> Iterator[tuple[str, bytes]]:
    """The price lists of a month (2026-03 or 2026-04), by name."""
    yield from ((path.name, path.read_bytes()) for path in sorted((folder() / "prices").glob(f"* {month}.html")))


def flow(name: str) -> str:
    """A flow of the demo, by its name."""
    return (folder() / "flows" / f"{name}.yaml").read_text("utf-8")


def bookings() -> Iterator[tuple[str, bytes]]:
    """The sheet of those who ask for a tour."""
    yield from ((path.name, path.read_bytes()) for path in sorted((folder() / "bookings").glob("*.csv")))


def to_enter() -> Iterator[tuple[str, bytes]]:
    """An invoice that is typed into the old accounting program."""
    yield TO_ENTER, document(TO_ENTER)


def way_in() -> str:
    """How the old accounting program is worked."""
    return (folder() / "ways" / f"{OLD_LEDGER}.yaml").read_text("utf-8")


def notes() -> dict[str, Any]:
    """What is noted of the service of contacts and tasks."""
    find = {"operation": "listContacts", "by": {"email": "email", "phone": "phone"}, "records": "data", "next": "next", "page": "cursor"}
    contacts = {
        "create": "makeContact",
        "find": find,
        "set": {"operation": "setContact", "id": "id"},
        "telephones": ["phone"],
        "country": "AT",
        "found_within": 0,
    }
    headers = {"left": "X-RateLimit-Remaining", "again": "X-RateLimit-Reset"}
    return {"records": {"contacts": contacts, "tasks": {"create": "makeTask", "once_header": "Idempotency-Key"}}, "rate_headers": headers}


def report() -> tuple[str, str, bytes]:
    """The flow of the month's report, and the name and bytes of its template."""
    path = next((folder() / "templates").glob("*.docx"))
    return (folder() / "flows" / f"{REPORT}.yaml").read_text("utf-8"), path.name, path.read_bytes()


def invoice_type() -> str:
    """The demo's record type of invoices."""
    return (folder() / "record_types" / "invoice.json").read_text("utf-8")


def expected() -> Iterator[Expected]:
    """Every file of the demo, by name."""
    for path in sorted((folder() / "documents").glob(f"*{RIGHT}")):
        data = loads(path.read_bytes())
        yield Expected(path.name.removesuffix(RIGHT), data["outcome"], data["because"], data["record"])


def document(name: str) -> bytes:
    """The bytes of a file of the demo."""
    return (folder() / "documents" / name).read_bytes()


def score(right: dict[str, Any], found: dict[str, Any]) -> Score:
    """Compare a record with the right one, value by value; texts without regard to spaces at line ends."""
    wanted, got = dict(leaves(right)), dict(leaves(found))
    same = [pointer for pointer, value in wanted.items() if got.get(pointer) == value]
    wrong = [pointer for pointer in {**wanted, **got} if pointer not in same]
    return Score(len(wanted), len(same), sum(1 for pointer in wanted if got.get(pointer) is not None), tuple(wrong))
