"""The tables of what goes out; they stand among the others (`tables`)."""

from __future__ import annotations

from sqlalchemy import BigInteger, Boolean, Column, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table, Text, false, true

metadata = MetaData()
ID = String(26)  # of runs, items and the like

deliveries = Table(
    "deliveries",
    metadata,
    Column("key", String(500), primary_key=True),
    Column("destination", String(300), nullable=False),
    Column("run_id", ID, ForeignKey("runs.id"), nullable=False),
    Column("path", String(400), nullable=False),
    Column("position", Integer, nullable=False),
    Column("flow", String(60), nullable=False),
    Column("flow_version", Integer, nullable=False),
    Column("target", String(60), nullable=False),
    Column("values", LargeBinary, nullable=False),
    Column("state", String(10), nullable=False),
    Column("attempts", Integer, nullable=False, default=0),
    Column("most_attempts", Integer, nullable=False),
    Column("not_before", BigInteger, nullable=False),
    Column("begun_at", BigInteger, nullable=False),
    Column("done_at", BigInteger),
    Column("receipt", Text),
    Column("error", Text),
    Column("parts", LargeBinary),  # of the key, as JSON; they may be forgotten
    Column("left", LargeBinary),  # columns that a person has set, and that were left, as JSON
    Column("kind", String(10), nullable=False, default="row", server_default="row"),  # row, mail, message, call
    Column("purpose", String(10), nullable=False, default="write", server_default="write"),  # of core.deliveries.states.Purpose
    Column("asks", Boolean, nullable=False, default=False, server_default=false()),  # where it is there otherwise a person is asked
    Column("over", Boolean, nullable=False, default=False, server_default=false()),  # what a person has set is set all the same
    Column("only", Boolean, nullable=False, default=False, server_default=false()),  # where there is no such row none is made
    Column("moved_from", String(500)),  # the key that its row had before
    Column("differs", LargeBinary),  # columns that are there otherwise, with what is there, as JSON
    Column("result", LargeBinary),  # what the step gave that sent it, as JSON, where it is no row
    Column("before", LargeBinary),  # what stood in columns before they were set, as JSON
    Column(
        "handed", Boolean, nullable=False, default=False, server_default=false()
    ),  # it was handed over, and its destination is to be asked what came of it
    Column(
        "moves", Boolean, nullable=False, default=True, server_default=true()
    ),  # a run that corrects takes it over, or back where it wants it no longer
    Column("mark", LargeBinary),  # columns that are set when it is taken back, instead of removing it, as JSON
    Index("deliveries_to_do", "destination", "state", "not_before"),
    Index("deliveries_of_run", "run_id"),
)
delivery_waits = Table(  # steps that wait until a row which another step has entered is written
    "delivery_waits",
    metadata,
    Column("key", String(500), nullable=False),
    Column("run_id", ID, primary_key=True),
    Column("path", String(400), primary_key=True),
    Index("delivery_waits_for", "key"),
)

deaths = Table(  # files that have ended the process that opened them
    "deaths",
    metadata,
    Column("sha256", String(64), primary_key=True),
    Column("name", String(200), nullable=False),
    Column("count", Integer, nullable=False),
    Column("at", BigInteger, nullable=False),
    Column("version", String(20), nullable=False),
)
