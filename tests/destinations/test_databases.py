"""Tables of real servers: exact values, keys that the server enforces, what a person set; connections that take a new password at once."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import Engine
from sqlalchemy.pool import QueuePool

from metrikon.connections import sql
from metrikon.connections.fetching import FetchFailed
from metrikon.core.flows.connecting import Way
from metrikon.destinations.sql import SqlDestination
from metrikon.destinations.walking import AT_ONCE
from metrikon.ports.destination import KEY_COLUMN, Broken, Busy, Destination, Row, Unusable
from tests.destinations import ailing
from tests.destinations.contract import Ailing, Contract, row
from tests.destinations.servers import SECRET, USER, MariaDB, PostgreSQL, Server


def engine_at(address: str) -> Engine:
    return sql.server_engine(address, lambda: sql.signed_in(address, Way("basic", USER), SECRET, private=True))


def engine_for(server: Server) -> Engine:
    return engine_at(server.address)


RENAMED = ailing.statements("ALTER TABLE {table} RENAME COLUMN vendor TO supplier")


class Database(Contract):
    server: Server
    engine_at = staticmethod(engine_at)
    holds = ""

    def make(self, folder: Path) -> Destination:
        return SqlDestination(lambda: self.engine, self.table)

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        rows = self.server.run(f"SELECT {KEY_COLUMN}, amount FROM {self.table}")
        return {key: f"{amount:.2f}" for key, amount in rows}

    @pytest.fixture(autouse=True)
    def _table(self, request: pytest.FixtureRequest) -> Iterator[None]:
        self.server = request.getfixturevalue(self.named)
        self.table = f"t{abs(hash(request.node.nodeid))}"
        self.engine = engine_for(self.server)
        yield
        self.engine.dispose()

    named = ""

    def test_a_table_that_we_make_can_be_summed_compared_and_ordered(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Amount=Decimal("0.10"), Paid=True), row("b", Amount=Decimal("0.20"), Date="2026-02-01", Paid=False)])
        [(total,)] = self.server.run(f"SELECT SUM(amount) FROM {self.table}")
        assert total == Decimal("0.30")
        assert self.server.run(f"SELECT {KEY_COLUMN} FROM {self.table} WHERE date < '2026-03-01' AND NOT paid") in ([("b",)], [["b"]], (("b",),))

    @pytest.mark.parametrize(
        ("column", "value"), [("Amount", "about 5"), ("Amount", True), ("Date", "soon"), ("Date", "2026-02-30"), ("Paid", "no"), ("Paid", 2)]
    )
    def test_a_value_that_does_not_fit_is_an_error_and_never_nothing(self, column: str, value: Any, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Paid=True)])
        with pytest.raises(Broken, match=f"column {column.lower()} holds"):
            made.write([row("b", **{column: value})])
        assert list(self.held(tmp_path, made)) == ["a"]

    def test_no_figure_is_rounded_in_silence(self, tmp_path: Path) -> None:
        self.server.run(f"CREATE TABLE {self.table} ({KEY_COLUMN} VARCHAR(200) PRIMARY KEY, amount DECIMAL(6,2), name VARCHAR(5))")
        self._may_use()
        made = self.make(tmp_path)
        for bad in ({"amount": Decimal("1.005")}, {"amount": Decimal("12345.00")}, {"name": "Fernhill"}):
            with pytest.raises(Broken, match="holds"):
                made.write([Row("a", bad)])
        made.write([Row("a", {"amount": Decimal("1.500"), "name": "Fern"})])
        assert self.held(tmp_path, made) == {"a": "1.50"}

    def test_a_table_with_a_key_of_its_own_is_used_as_it_is(self, tmp_path: Path) -> None:
        self.server.run(f"CREATE TABLE {self.table} (id INT, email VARCHAR(80) NOT NULL, visits INT NOT NULL DEFAULT 7, UNIQUE (email))")
        self._may_use()
        made = SqlDestination(lambda: self.engine, self.table, ["Email"])
        assert [(each.name, each.wanted) for each in made.heads() or ()] == [("id", False), ("email", True), ("visits", False)]
        assert [each.result for each in made.write([Row("k1", {"email": "ada@x", "id": 1}), Row("k2", {"email": "ada@x", "id": 2})])] == [
            "written",
            "there already",
        ]
        assert made.write([Row("k3", {"email": "ada@x", "id": 3}, sets=True)])[0].result == "updated"
        assert [list(each) for each in self.server.run(f"SELECT id, email, visits FROM {self.table}")] == [[3, "ada@x", 7]]
        with pytest.raises(Unusable, match="no column phone"):
            made.write([Row("k4", {"email": "bo@x", "phone": "1"})])
        with pytest.raises(Unusable, match="no unique index on id"):
            SqlDestination(lambda: self.engine, self.table, ["id"]).write([Row("k5", {"id": 5, "email": "c@x"})])

    def test_many_rows_come_one_after_the_other_as_they_stood_and_lock_nobody_out(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row(f"k{number:04}", Amount=Decimal(number)) for number in range(2 * AT_ONCE)])
        assert isinstance(made, SqlDestination)
        walk = made.find({}, 2 * AT_ONCE)
        amounts = [next(walk)["amount"]]
        self.server.run(f"UPDATE {self.table} SET amount = -1")
        amounts += [each["amount"] for each in walk]
        assert sorted(amounts) == [Decimal(number) for number in range(2 * AT_ONCE)]
        assert next(made.find({}, 2 * AT_ONCE))["amount"] == -1  # one that is left off gives its connection back
        assert isinstance(self.engine.pool, QueuePool)
        assert self.engine.pool.checkedout() == 0

    def test_two_that_write_the_same_key_at_once_write_one_row(self, tmp_path: Path) -> None:
        self.make(tmp_path).write([row("first")])
        both = threading.Barrier(8)
        said: list[str] = []

        def write() -> None:
            made = self.make(tmp_path)
            both.wait()
            said.extend(each.result for each in made.write([row("a"), row("b")]))

        threads = [threading.Thread(target=write) for _ in range(8)]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        assert sorted(self.held(tmp_path, self.make(tmp_path))) == ["a", "b", "first"]
        assert len(said) == 16

    def test_a_server_that_is_gone_is_busy_and_takes_rows_again_when_it_is_back(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        self.server.stop()
        try:
            with pytest.raises(Busy, match="does not answer"):
                made.write([row("b")])
        finally:
            self.server.start()
        assert made.write([row("a"), row("b")])[1].result == "written"

    def test_a_row_that_somebody_holds_is_busy(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        other = self.server.client()
        cursor = other.cursor()
        cursor.execute(f"UPDATE {self.table} SET amount = 5")
        try:
            with pytest.raises(Busy):
                made.write([Row("a", {"Amount": Decimal(7)}, sets=True)])
        finally:
            other.rollback()
            other.close()

    def test_a_user_who_may_not_write_is_told(self, tmp_path: Path) -> None:
        self.server.run(f"CREATE TABLE {self.table} ({KEY_COLUMN} VARCHAR(200) PRIMARY KEY, amount DECIMAL(6,2))")
        self._may_use("SELECT")
        with pytest.raises(Broken, match="denied"):
            self.make(tmp_path).write([Row("a", {"amount": Decimal(1)})])

    def _may_use(self, what: str = "ALL") -> None:
        """A table of somebody else that the user of the connection may use."""


def raising(told: str, state: str) -> Ailing:
    """Rows are refused as the server itself refuses them."""
    made = f"CREATE FUNCTION ails() RETURNS trigger AS $$ BEGIN {told}; RETURN NULL; END $$ LANGUAGE plpgsql"
    put = "CREATE TRIGGER ails BEFORE INSERT ON {table} FOR EACH STATEMENT EXECUTE FUNCTION ails()"
    comes: Ailing = ailing.statements(made.replace("STATE", state), put, after=("DROP FUNCTION ails CASCADE",))
    return comes


class TestPostgreSQL(Database):
    named = "postgresql"
    holds = "LOCK TABLE {table} IN EXCLUSIVE MODE"
    ails = {
        "full": raising("RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = 'STATE'", "53100"),
        "over its quota": raising("RAISE EXCEPTION 'configuration limit exceeded' USING ERRCODE = 'STATE'", "53400"),
        "read-only": ailing.statements(
            f"ALTER ROLE {USER} SET default_transaction_read_only = on", after=(f"ALTER ROLE {USER} RESET default_transaction_read_only",)
        ),
        "locked": ailing.row_held,
        "slow": raising("PERFORM pg_sleep(1.5)", ""),
        "gone": ailing.gone,
        "its answer lost": ailing.answer_lost,
        "changed meanwhile": RENAMED,
        "put in another order": "rows of a table have none",
    }

    def _may_use(self, what: str = "ALL") -> None:
        self.server.run(f"GRANT {what} ON {self.table} TO {USER}")

    def test_a_moment_keeps_its_zone(self, tmp_path: Path) -> None:
        self.make(tmp_path).write([row("a", Seen="2026-03-04T10:00:00+01:00")])
        [(seen,)] = self.server.run(f"SELECT seen AT TIME ZONE 'UTC' FROM {self.table}")
        assert seen.isoformat() == "2026-03-04T09:00:00"


def signalling(told: str) -> Ailing:
    """Rows are refused as the server itself refuses them."""
    comes: Ailing = ailing.statements(f"CREATE TRIGGER ails BEFORE INSERT ON {{table}} FOR EACH ROW {told}", after=("DROP TRIGGER ails",))
    return comes


class TestMariaDB(Database):
    named = "mariadb"
    holds = "UPDATE {table} SET amount = 97"
    ails = {
        "full": signalling("SIGNAL SQLSTATE 'HY000' SET MYSQL_ERRNO = 1114, MESSAGE_TEXT = 'The table is full'"),
        "over its quota": ailing.statements(
            f"ALTER USER {USER} WITH MAX_QUERIES_PER_HOUR 1", after=(f"ALTER USER {USER} WITH MAX_QUERIES_PER_HOUR 0", "FLUSH USER_RESOURCES")
        ),
        "read-only": ailing.statements("SET GLOBAL read_only = 1", after=("SET GLOBAL read_only = 0",)),
        "locked": ailing.row_held,
        "slow": signalling("DO SLEEP(0.7)"),
        "gone": ailing.gone,
        "its answer lost": ailing.answer_lost,
        "changed meanwhile": RENAMED,
        "put in another order": "rows of a table have none",
    }

    def _may_use(self, what: str = "ALL") -> None:
        if what != "ALL":
            self.server.run(f"REVOKE ALL ON garden.* FROM {USER}", f"GRANT {what} ON garden.{self.table} TO {USER}")

    @pytest.fixture(autouse=True)
    def _granted(self, mariadb: MariaDB) -> Iterator[None]:
        yield
        mariadb.run(f"GRANT ALL ON garden.* TO {USER}")

    @pytest.mark.parametrize("cannot", ["clean", "refuse"])
    def test_signs_that_a_column_cannot_hold_are_told_apart_or_refused_as_set(self, cannot: str, tmp_path: Path) -> None:
        self.server.run(f"CREATE TABLE {self.table} ({KEY_COLUMN} VARCHAR(200) PRIMARY KEY, amount INT, name VARCHAR(50) CHARACTER SET latin1)")
        made = SqlDestination(lambda: self.engine, self.table, refuse=cannot == "refuse")
        if cannot == "refuse":
            with pytest.raises(Broken, match="latin1"):
                made.write([Row("a", {"name": "Łuk 🌱 é"})])
        else:
            made.write([Row("a", {"name": "Łuk 🌱 é"})])
            assert [list(each) for each in self.server.run(f"SELECT name FROM {self.table}")] == [["?uk ? é"]]

    def test_keys_that_differ_in_capitals_or_a_blank_at_the_end_are_two(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        assert [each.result for each in made.write([row("a"), row("A"), row("a ")])] == ["written"] * 3


@pytest.fixture(scope="module")
def both(postgresql: PostgreSQL, mariadb: MariaDB) -> Iterator[list[SqlDestination]]:
    engines = [engine_for(each) for each in (postgresql, mariadb)]
    yield [SqlDestination(lambda each=each: each, "round_trips") for each in engines]
    for each in engines:
        each.dispose()


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    amount=st.decimals(-(10**20), 10**20, places=6),
    text=st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=60),
    day=st.dates().map(lambda each: each.isoformat()).filter(lambda each: each >= "1000"),
    yes=st.booleans(),
)
def test_what_is_written_is_found_again_as_it_was(both: list[SqlDestination], amount: Decimal, text: str, day: str, yes: bool) -> None:
    for made in both:
        key = f"k{made.write([])!r}{amount}{day}"
        values = {"amount_in": amount, "told": f"x{text}", "day": day, "yes": yes}
        made.write([Row(key, values, sets=True, over=True)])
        found = [each for each in made.find({"amount_in": amount, "day": day}, 100) if each["told"] == f"x{text}" and each["yes"] == yes]
        assert found
        assert (Decimal(found[0]["amount_in"]), found[0]["day"]) == (amount, day)


def test_what_signs_in_wrongly_is_told_in_words(postgresql: PostgreSQL, mariadb: MariaDB) -> None:
    for server in (postgresql, mariadb):
        for address, user, secret, told in (
            (server.address, USER, "wrong", "does not let ada in"),
            (f"{server.address}x", USER, SECRET, "no database 'gardenx'"),
            (f"{server.scheme}://127.0.0.1:1/garden", USER, SECRET, "Connection refused"),
        ):
            with pytest.raises(FetchFailed, match=told):
                sql.signed_in(address, Way("basic", user), secret, private=True)
        with pytest.raises(FetchFailed, match="private network"):
            sql.signed_in(server.address, Way("basic", USER), SECRET, private=False)
