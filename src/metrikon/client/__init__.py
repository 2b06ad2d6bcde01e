"""The client library: everything the service offers to programs, typed.

from metrikon.client import Client

with Client("http://127.0.0.1:8700", token="mk_…") as metrikon:
    sent = metrikon.upload("supplier-invoices", "invoice.pdf")
    run = metrikon.wait(sent.run_id, timeout=60)
    for record in metrikon.records(record_type="invoice"):
        print(record.title, record.values["total"])
"""

from metrikon.client.client import Client
from metrikon.client.errors import (
    ClientError,
    NotAllowed,
    NotFound,
    NotSettled,
    Refused,
    ServiceError,
    Unreachable,
)
from metrikon.client.things import Arrived, Correction, EnteredSoFar, Entry, HeardSoFar, Item, Record, Run

__all__ = [
    "Arrived",
    "Client",
    "ClientError",
    "Correction",
    "EnteredSoFar",
    "Entry",
    "HeardSoFar",
    "Item",
    "NotAllowed",
    "NotFound",
    "NotSettled",
    "Record",
    "Refused",
    "Run",
    "ServiceError",
    "Unreachable",
]
