"""Tables of what is outside: connections, intakes, and the calls that were made. They belong to the same metadata as all others."""

from __future__ import annotations

from sqlalchemy import BigInteger, Boolean, Column, Index, Integer, LargeBinary, String, Table, Text

from metrikon.store.tables import metadata

_ROWID = BigInteger().with_variant(Integer, "sqlite")

connections = Table(  # outside services: an address and a way of signing in; the secret is sealed
    "connections",
    metadata,
    Column("name", String(60), primary_key=True),
    Column("address", Text, nullable=False),
    Column("way", LargeBinary, nullable=False),
    Column("probe", Text, nullable=False),  # what is asked for when it is tested, after its address
    Column("sealed", LargeBinary),
    Column("put_at", BigInteger, nullable=False),
    Column("put_by", String(80), nullable=False),
    Column("tested_at", BigInteger),
    Column("told", Text, nullable=False),  # what came of the last test or call
    Column("failing_since", BigInteger),
    Column("description", LargeBinary),  # of its service (OpenAPI)
    Column("notes", LargeBinary),  # what a person has noted of it, as JSON
)
first_rows = Table(  # of a destination of a version of a flow: a person has looked at its first row
    "first_rows",
    metadata,
    Column("flow", String(60), primary_key=True),
    Column("version", Integer, primary_key=True),
    Column("target", String(60), primary_key=True),
    Column("by", String(80), nullable=False),
    Column("at", BigInteger, nullable=False),
)
intakes = Table(  # where each intake of a flow stands
    "intakes",
    metadata,
    Column("flow", String(60), primary_key=True),
    Column("name", String(40), primary_key=True),
    Column("place", Text, nullable=False),  # that the cursor belongs to
    Column("said", String(32), nullable=False),  # a hash of what the flow says of it
    Column("agreed", Boolean, nullable=False),  # whether it may take what is there
    Column("would", LargeBinary),  # what it would take, where it waits for a yes
    Column("cursor", LargeBinary),
    Column("taken", Integer, nullable=False),  # since it was last changed
    Column("let_go", Integer, nullable=False),
    Column("looked_at", BigInteger),
    Column("told", Text, nullable=False),  # what came of the last look
    Column("failing_since", BigInteger),
    Column("address", String(64)),  # of one that is sent to
    Column("sealed", LargeBinary),  # its secret
    Index("intakes_by_address", "address", unique=True),
)
let_go = Table(  # what intakes did not take, the latest of each, with the reason
    "let_go",
    metadata,
    Column("flow", String(60), primary_key=True),
    Column("intake", String(40), primary_key=True),
    Column("identity", String(200), primary_key=True),
    Column("name", String(255), nullable=False),
    Column("came_at", BigInteger, nullable=False),
    Column("at", BigInteger, nullable=False),
    Column("why", Text, nullable=False),
    Column("data", LargeBinary),  # of the latest that were sent: what came, to become a sample
    Column("body", LargeBinary),
    Index("let_go_latest", "flow", "intake", "at"),
)
outside_calls = Table(  # made by connections, the latest, without what was sent
    "outside_calls",
    metadata,
    Column("number", _ROWID, primary_key=True, autoincrement=True),
    Column("at", BigInteger, nullable=False),
    Column("connection", String(60), nullable=False),
    Column("flow", String(60), nullable=False),
    Column("method", String(12), nullable=False),
    Column("address", String(400), nullable=False),  # without its parameters
    Column("status", Integer, nullable=False),  # 0 where nothing was answered
    Column("size", Integer, nullable=False),  # bytes of the answer
    Column("took", Integer, nullable=False),  # milliseconds
    Column("error", Text, nullable=False),
    Index("outside_calls_of", "connection", "number"),
)
