"""The tables. Times are milliseconds since 1970 (UTC); amounts are texts, never floats; JSON is bytes."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    String,
    Table,
    Text,
    UniqueConstraint,
)

from metrikon.store.tables_out import ID as _ID
from metrikon.store.tables_out import deliveries as deliveries
from metrikon.store.tables_out import delivery_waits as delivery_waits
from metrikon.store.tables_out import metadata as metadata

_ROWID = BigInteger().with_variant(Integer, "sqlite")

flows = Table(
    "flows",
    metadata,
    Column("name", String(60), primary_key=True),
    Column("version", Integer, primary_key=True),
    Column("text", Text, nullable=False),
    Column("created_at", BigInteger, nullable=False),
    Column("running", Boolean, nullable=False),
    Column("put_by", String(80)),
    Column("why", Text),
)
paused = Table(  # flows whose runs are not worked on; what comes in waits
    "paused",
    metadata,
    Column("flow", String(60), primary_key=True),
    Column("at", BigInteger, nullable=False),
    Column("by", String(80), nullable=False),
)
record_types = Table(
    "record_types",
    metadata,
    Column("name", String(60), primary_key=True),
    Column("version", Integer, primary_key=True),
    Column("text", Text, nullable=False),
    Column("created_at", BigInteger, nullable=False),
)
decision_tables = Table(
    "decision_tables",
    metadata,
    Column("name", String(60), primary_key=True),
    Column("version", Integer, primary_key=True),
    Column("text", Text, nullable=False),
    Column("created_at", BigInteger, nullable=False),
)
ways = Table(  # ways in, by which records are typed into programs that have only a screen
    "ways",
    metadata,
    Column("name", String(60), primary_key=True),
    Column("version", Integer, primary_key=True),
    Column("text", Text, nullable=False),
    Column("created_at", BigInteger, nullable=False),
)
entered = Table(  # what was typed in by them, once for its key
    "entered",
    metadata,
    Column("key", String(400), primary_key=True),
    Column("run_id", _ID, nullable=False),
    Column("path", String(400), nullable=False),
    Column("state", String(10), nullable=False),
    Column("at", BigInteger, nullable=False),
)
items = Table(
    "items",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("flow", String(60), nullable=False),
    Column("intake", String(40), nullable=False),
    Column("identity", String(200), nullable=False),
    Column("sha256", String(64), nullable=False),
    Column("name", String(255), nullable=False),
    Column("size", Integer, nullable=False),
    Column("received_at", BigInteger, nullable=False),
    Column("data", LargeBinary),  # what its intake knows of it, as JSON
    Column("body", LargeBinary),  # its bytes, where they are few and came by themselves
    Column("depth", Integer, nullable=False, default=0, server_default="0"),  # by how many flows it went before
    UniqueConstraint("flow", "intake", "identity"),
    Index("items_by_content", "flow", "sha256"),
)
runs = Table(
    "runs",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("item_id", _ID, ForeignKey("items.id"), nullable=False),
    Column("flow", String(60), nullable=False),
    Column("flow_version", Integer, nullable=False),
    Column("state", String(10), nullable=False),
    Column("reason", Text, nullable=False, default=""),
    Column("wake_at", BigInteger),
    Column("owner", String(60)),
    Column("epoch", Integer, nullable=False, default=0),
    Column("lease_until", BigInteger),
    Column("entries", Integer, nullable=False, default=0),
    Column("created_at", BigInteger, nullable=False),
    Column("changed_at", BigInteger, nullable=False),
    Column("settled_at", BigInteger),
    Column("calls", Integer, nullable=False, default=0),
    Column("input_tokens", Integer, nullable=False, default=0),
    Column("output_tokens", Integer, nullable=False, default=0),
    Column("cost", String(40), nullable=False, default="0"),
    Column("used_by", _ID),  # the run of which a step uses this one's flow
    Column("used_at", String(400)),  # the path of that step
    Column("given", LargeBinary),
    Column("forgotten_at", BigInteger),  # when its results or its journal were
    Column("behind", Boolean, nullable=False, default=False, server_default="0"),  # a back-fill: it comes after what is new
    Index("runs_due", "behind", "state", "wake_at"),
    Index("runs_ready", "behind", "state", "id"),
    Index("runs_of_item", "item_id"),
    Index("runs_by_state", "state", "id"),
    Index("runs_used", "used_by"),
)
failures = Table(  # of runs that cannot go on: each cause of a flow once while it lasts
    "failures",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("at", BigInteger, nullable=False),
    Column("flow", String(60), nullable=False),
    Column("run_id", _ID, nullable=False),
    Column("item_id", _ID, nullable=False),
    Column("path", String(400), nullable=False),  # of the step; empty where it is none of its steps
    Column("cause", String(32), nullable=False),  # a hash: the same for what has one cause
    Column("message", Text, nullable=False),
    Column("attempts", Integer, nullable=False),
    Column("own", Boolean, nullable=False),  # its flow has steps of its own for failures
    Column("count", Integer, nullable=False),  # runs that failed with this cause while it lasted
    Column("over_at", BigInteger),
    Index("failures_open", "flow", "cause", "over_at"),
    Index("failures_of_run", "run_id"),
    Index("failures_of_item", "item_id"),
)
journal = Table(
    "journal",
    metadata,
    Column("run_id", _ID, ForeignKey("runs.id"), primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("event", String(12), nullable=False),
    Column("path", String(400), nullable=False),
    Column("kind", String(12), nullable=False, default=""),
    Column("kind_version", Integer, nullable=False, default=1),
    Column("at", BigInteger, nullable=False),
    Column("took", Integer),
    Column("data", LargeBinary, nullable=False),
)
records = Table(
    "records",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("run_id", _ID, ForeignKey("runs.id"), nullable=False),
    Column("item_id", _ID, ForeignKey("items.id"), nullable=False),
    Column("path", String(400), nullable=False),
    Column("record_type", String(60), nullable=False),
    Column("type_version", Integer, nullable=False),
    Column("state", String(10), nullable=False),
    Column("document", String(64), nullable=False),
    Column("model", String(80), nullable=False),
    Column("title", String(200), nullable=False),
    Column("words", Text, nullable=False),
    Column("values", LargeBinary, nullable=False),
    Column("evidence", LargeBinary, nullable=False),
    Column("findings", LargeBinary, nullable=False),
    Column("changes", LargeBinary, nullable=False),
    Column("as_read", LargeBinary, nullable=False),
    Column("created_at", BigInteger, nullable=False),
    Column("reviewed_at", BigInteger),
    Column("reviewed_by", String(80)),
    Column("comment", Text),
    UniqueConstraint("run_id", "path"),
    Index("records_by_state", "state", "id"),
)
record_versions = Table(  # what a record held before it was corrected after its run had written it
    "record_versions",
    metadata,
    Column("id", _ROWID, primary_key=True, autoincrement=True),
    Column("record_id", _ID, nullable=False),
    Column("values", LargeBinary, nullable=False),
    Column("at", BigInteger, nullable=False),  # when it was corrected, and by whom
    Column("by", String(80), nullable=False),
    Column("comment", Text, nullable=False),
    Index("record_versions_of", "record_id", "id"),
)
claims = Table(
    "claims",
    metadata,
    Column("record_type", String(60), primary_key=True),
    Column("key", String(400), primary_key=True),
    Column("item_id", _ID, nullable=False),
    Column("record_id", _ID, nullable=False),
)
questions = Table(  # put to people by runs
    "questions",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("run_id", _ID, ForeignKey("runs.id"), nullable=False),
    Column("item_id", _ID, ForeignKey("items.id"), nullable=False),
    Column("flow", String(60), nullable=False),
    Column("path", String(400), nullable=False),
    Column("asked", LargeBinary, nullable=False),  # question, options, values shown beside it, who may answer
    Column("state", String(10), nullable=False),  # open, answered, closed
    Column("asked_at", BigInteger, nullable=False),
    Column("answered_at", BigInteger),
    Column("answer", String(40)),
    Column("answered_by", String(80)),
    Column("comment", Text),
    Column("remind_at", BigInteger),  # when it is brought to mind next
    Column("reminded", Integer, nullable=False, default=0, server_default="0"),  # how often it was
    Index("questions_by_state", "state", "id"),
    Index("questions_of_run", "run_id"),
    Index("questions_to_remind", "state", "remind_at"),
)
events = Table(  # sent to flows; kept until something that waits for them has them
    "events",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("flow", String(60), nullable=False),
    Column("key", String(200), nullable=False),
    Column("identity", String(200), nullable=False),
    Column("data", LargeBinary, nullable=False),
    Column("at", BigInteger, nullable=False),
    Column("taken", Boolean, nullable=False),
    UniqueConstraint("flow", "identity"),
    Index("events_to_take", "flow", "key", "taken"),
)
fetched = Table(  # pages and files that were fetched, by a hash of their address
    "fetched",
    metadata,
    Column("address", String(64), primary_key=True),
    Column("page", LargeBinary, nullable=False),
    Column("at", BigInteger, nullable=False),
)
event_waits = Table(  # steps that wait for an event
    "event_waits",
    metadata,
    Column("run_id", _ID, primary_key=True),
    Column("path", String(400), primary_key=True),
    Column("flow", String(60), nullable=False),
    Column("key", String(200), nullable=False),
    Index("event_waits_for", "flow", "key"),
)
calls = Table(
    "calls",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("at", BigInteger, nullable=False),
    Column("model", String(120), nullable=False),
    Column("flow", String(60), nullable=False),
    Column("run_id", _ID, nullable=False),
    Column("stage", String(12), nullable=False),
    Column("request", String(64), nullable=False),  # hash of what was asked of which model
    Column("outcome", String(10), nullable=False),  # good, rejected, failed, or kept: an earlier answer was given again
    Column("prompt", LargeBinary),  # both compressed; forgotten after a while
    Column("answer", LargeBinary),
    Column("prompt_size", Integer, nullable=False),  # characters
    Column("input_tokens", Integer, nullable=False),
    Column("output_tokens", Integer, nullable=False),
    Column("tries", Integer, nullable=False),
    Column("cost", String(40), nullable=False),
    Column("took", Integer, nullable=False),  # milliseconds
    Column("error", Text),
    Column("about", String(64)),  # the file that it speaks of, by its hash
    Index("calls_about", "about"),
    Index("calls_by_request", "request", "id"),
    Index("calls_of_run", "run_id", "id"),
    Index("calls_by_time", "at"),
)
changes = Table(
    "changes",
    metadata,
    Column("number", _ROWID, primary_key=True, autoincrement=True),
    Column("kind", String(12), nullable=False),
    Column("ref", String(60), nullable=False),
    Column("at", BigInteger, nullable=False),
)
people = Table(
    "people",
    metadata,
    Column("name", String(80), primary_key=True),
    Column("password", Text, nullable=False),
    Column("created_at", BigInteger, nullable=False),
    Column("role", String(20), nullable=False, server_default="admin"),
)
sessions = Table(
    "sessions",
    metadata,
    Column("id_hash", String(64), primary_key=True),
    Column("person", String(80), nullable=False),
    Column("csrf", String(64), nullable=False),
    Column("until", BigInteger, nullable=False),
)
tokens = Table(
    "tokens",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("name", String(80), nullable=False),
    Column("hash", String(64), nullable=False, unique=True),
    Column("created_at", BigInteger, nullable=False),
    Column("used_at", BigInteger),
    Column("role", String(20), nullable=False, server_default="admin"),
    Column("until", BigInteger),  # when it ends
)
places = Table(  # that flows may touch besides those of the service's folder
    "places",
    metadata,
    Column("place", String(500), primary_key=True),
    Column("why", Text, nullable=False),
    Column("by", String(80), nullable=False),
    Column("at", BigInteger, nullable=False),
)
samples = Table(  # items that a flow is tried on
    "samples",
    metadata,
    Column("flow", String(60), primary_key=True),
    Column("name", String(60), primary_key=True),
    Column("why", Text, nullable=False),
    Column("sha256", String(64), nullable=False),
    Column("file_name", String(255), nullable=False),
    Column("intake", String(40), nullable=False),
    Column("size", Integer, nullable=False),
    Column("received_at", BigInteger, nullable=False),
    Column("kept_at", BigInteger, nullable=False),
    Column("kept_by", String(80), nullable=False),
    Column("data", LargeBinary),
    Index("samples_by_file", "sha256"),
)
forgotten = Table(  # what was removed on request, as it was told then
    "forgotten",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("at", BigInteger, nullable=False),
    Column("by", String(80), nullable=False),
    Column("proof", LargeBinary, nullable=False),
)
trials = Table(
    "trials",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("record_type", String(60), nullable=False),
    Column("type_version", Integer, nullable=False),
    Column("model", String(120), nullable=False),
    Column("context", Text, nullable=False),
    Column("count", Integer, nullable=False),
    Column("state", String(10), nullable=False),  # running, done, stopped, failed
    Column("problem", Text, nullable=False),
    Column("created_at", BigInteger, nullable=False),
)
trial_results = Table(
    "trial_results",
    metadata,
    Column("trial_id", _ID, primary_key=True),
    Column("record_id", _ID, primary_key=True),
    Column("result", LargeBinary, nullable=False),
)
judgements = Table(  # what `judge` steps gave: whom a person set right, and what is shown as anchors
    "judgements",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("run_id", _ID, ForeignKey("runs.id"), nullable=False),
    Column("item_id", _ID, ForeignKey("items.id"), nullable=False),
    Column("path", String(400), nullable=False),
    Column("flow", String(60), nullable=False),
    Column("flow_version", Integer, nullable=False),
    Column("step", String(40), nullable=False),
    Column("criteria", String(16), nullable=False),  # a hash of what a model is told of them
    Column("total", Integer, nullable=False),
    Column("given", LargeBinary, nullable=False),  # what was judged, so that it can be judged again
    Column("result", LargeBinary, nullable=False),
    Column("at", BigInteger, nullable=False),
    Column("corrected_at", BigInteger),
    Column("corrected_by", String(80)),
    Column("comment", Text),
    UniqueConstraint("run_id", "path"),
    Index("judgements_of_flow", "flow", "step", "total"),
    Index("judgements_of_item", "item_id", "path", "id"),
)
anchors = Table(  # sets of them, frozen; the newest of a version of criteria is shown
    "anchors",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("flow", String(60), nullable=False),
    Column("criteria", String(16), nullable=False),
    Column("anchors", LargeBinary, nullable=False),
    Column("at", BigInteger, nullable=False),
    Column("by", String(80), nullable=False),
    Index("anchors_of_criteria", "flow", "criteria", "id"),
)
rejudgings = Table(
    "rejudgings",
    metadata,
    Column("id", _ID, primary_key=True),
    Column("flow", String(60), nullable=False),
    Column("flow_version", Integer, nullable=False),
    Column("step", String(40), nullable=False),
    Column("criteria", String(16), nullable=False),
    Column("anchors", LargeBinary, nullable=False),
    Column("renewed", Boolean, nullable=False),  # whether the anchors were chosen for it, and may be taken
    Column("judgements", LargeBinary, nullable=False),  # their ids
    Column("state", String(10), nullable=False),  # running, done, stopped, failed
    Column("problem", Text, nullable=False),
    Column("at", BigInteger, nullable=False),
    Column("by", String(80), nullable=False),
    Column("taken_at", BigInteger),
)
rejudged = Table(
    "rejudged",
    metadata,
    Column("rejudging_id", _ID, primary_key=True),
    Column("judgement_id", _ID, primary_key=True),
    Column("result", LargeBinary, nullable=False),
)
