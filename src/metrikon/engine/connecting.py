"""Connections: kept with their secrets sealed, tested by a real and harmless call, and signed in with when a flow that names them calls."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

import msgspec
from sqlalchemy import Connection
from sqlalchemy.exc import SQLAlchemyError

from metrikon.connections import imap, smtp, sql
from metrikon.connections.fetching import Fetched, FetchFailed, Wanted, fetch
from metrikon.connections.sealing import CannotOpen, Sealing, keys_of, new_key, put_keys
from metrikon.connections.signing import Signed, signed, signed_payload
from metrikon.core.flows.connecting import DATABASES, MAIL, SENDERS, Way, joined, origin, unfit, wrong_address
from metrikon.core.flows.form import NAME
from metrikon.core.services.description import Operation
from metrikon.core.services.harmless import harmless
from metrikon.core.services.notes import Notes
from metrikon.core.values.exact import loads
from metrikon.core.values.masking import Mask
from metrikon.core.values.near import meant
from metrikon.core.values.text import clean
from metrikon.engine import probing
from metrikon.engine.catalog import Catalog
from metrikon.engine.describing import description_in
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.tokens import Consent, Tokens, consent_in
from metrikon.ports.clock import Clock
from metrikon.store import connections, intakes
from metrikon.store.current import Current
from metrikon.store.database import Database
from metrikon.store.files import DiskFiles

LARGEST = 20_000_000  # bytes of what a test gets: a service that is described is asked for a list, which may be long
SECONDS = 20.0  # of a test
LONGEST = 400  # characters that are told of a call


class BadConnection(ValueError):
    """A connection that cannot be kept so; the message says why."""


class Connections:
    """The connections of a service. `private`: whether addresses of private networks may be called; `given`: keys that the environment gives."""

    def __init__(
        self, database: Database, files: DiskFiles, catalog: Catalog, sealing: Sealing, clock: Clock, *, private: bool, given: str, trusted: str = ""
    ) -> None:
        self._database, self._root, self._catalog, self._clock = database, files.root, catalog, clock
        self._sealing, self._private, self._given, self._trusted = sealing, private, given, trusted
        self._rows = Current(database, connections.get)
        self._tokens = Tokens(self._keep_secret, private=private)
        self._masks: dict[str, tuple[tuple[bytes, str], Mask]] = {}  # by connection, for the secrets that it has
        self._answering: set[str] = set()  # connections of which it is known, and noted, that they answer
        self._keys = threading.Lock()  # held while secrets are sealed, so that none is sealed with a key that goes meanwhile

    def all(self) -> list[dict[str, Any]]:
        """Every connection, by name, without its secret."""
        with self._database.reading() as connection:
            return [_shown(row) for row in connections.all_connections(connection)]

    def one(self, name: str) -> dict[str, Any]:
        """One of them. Raises `NotThere`."""
        return _shown(self.row(name))

    def failing(self) -> list[dict[str, Any]]:
        """Those that fail, since the longest first."""
        with self._database.reading() as connection:
            return [_shown(row) for row in connections.failing(connection)]

    def put(self, name: str, address: str, way: Way, secret: str | None, by: str, probe: str = "") -> dict[str, Any]:
        """Keep a connection and test it; what the test told stands with it. Without a secret the one before stays, as long as it goes to the same place.

        Raises `BadConnection`.
        """
        wrong = _wrong_name(name) or wrong_address(address) or way.wrong() or way.wrong_secret(secret or "") or unfit(address, way)
        if wrong:
            raise BadConnection(wrong)
        try:
            joined(address, probe)
        except ValueError as error:
            raise BadConnection(str(error)) from error
        now = self._clock.now()
        row = {
            "name": name,
            "address": address,
            "way": msgspec.json.encode(way),
            "probe": probe,
            "put_at": now,
            "put_by": by,
            "tested_at": None,
            "told": "",
            "failing_since": None,
        }
        with self._keys:
            sealed = self._sealed(name, address, way, secret)
            self._database.write(lambda connection: connections.put(connection, {**row, "sealed": sealed}))
        self._catalog.changed()
        return self.test(name)

    def _sealed(self, name: str, address: str, way: Way, secret: str | None) -> bytes | None:
        if way.kind == "none":
            return None
        if way.kind == "consent" and (secret or self._nothing_kept(name)):
            return self._sealing.seal(msgspec.json.encode(Consent(secret or "")).decode(), name)
        if secret:
            return self._sealing.seal(secret, name)
        try:
            before = self.row(name)
        except NotThere:
            before = None
        if before is None or before["sealed"] is None:
            raise BadConnection("Give the secret: it was not given before.")
        old = msgspec.json.decode(before["way"], type=Way)
        if origin(str(before["address"])) != origin(address) or (old.kind, old.token_url) != (way.kind, way.token_url):
            raise BadConnection("It goes to another place, or signs in otherwise than before: give the secret anew.")
        return bytes(before["sealed"])

    def _nothing_kept(self, name: str) -> bool:
        try:
            return self.row(name)["sealed"] is None
        except NotThere:
            return True

    def remove(self, name: str) -> None:
        """Keep a connection no longer. Raises `NotThere`, and `NotNow` while flows name it."""
        self.row(name)
        users = self.users(name)
        if users:
            raise NotNow(f"The connection {name} is named by {', '.join(users)}. Change or switch off what uses it first.")
        self._database.write(lambda connection: connections.remove(connection, name))
        self._catalog.changed()

    def users(self, name: str) -> list[str]:
        """The flows that name a connection."""
        return self._catalog.naming("connection", name)

    def test(self, name: str) -> dict[str, Any]:
        """Ask for what it is tested by; the connection with what came of it. Raises `NotThere`."""
        row = self.row(name)
        try:
            scheme = _scheme(row)
            told = (
                self._sender_told(name)
                if scheme in SENDERS
                else self._mail_told(name)
                if scheme in MAIL
                else self._database_told(name, row)
                if scheme in DATABASES
                else self._page_told(name, row)
            )
        except FetchFailed as error:
            self._note(name, str(error), failed=True, tested=True)
        else:
            self._note(name, told, failed=False, tested=True)
        return self.one(name)

    def mask(self, name: str) -> Mask:
        """What masks the secrets of a connection: that which is kept, what it is refreshed by, and the token at hand."""
        try:
            row, way, secret = self._opened(name)
        except FetchFailed:
            return Mask(())
        token = self._tokens.known(name)
        known = (bytes(row["sealed"] or b""), token.value if token is not None else "")
        kept = self._masks.get(name)
        if kept is None or kept[0] != known:
            consent = consent_in(secret) if way.kind == "consent" else Consent()
            secrets = (consent.client, consent.refresh) if way.kind == "consent" else (secret,)
            kept = self._masks[name] = (known, Mask(each for each in (*secrets, known[1]) if each))
        return kept[1]

    def _page_told(self, name: str, row: dict[str, Any]) -> str:
        along = self.signed(name)

        def ask(path: str, signs: bool) -> Fetched:
            address = joined(str(row["address"]), path)
            return fetch(Wanted(address, LARGEST, SECONDS, private=self._private, signed=along if signs else None, trusted=self._trusted))

        signs = msgspec.json.decode(row["way"], type=Way).kind not in ("none", "signed")
        return probing.told(probing.Probe(str(row["probe"]), signs, self._as(name), self._harmless(name)), ask)

    def _harmless(self, name: str) -> Operation | None:
        """An operation of a described service by which it may be tested; None where there is none, or no description."""
        with self._database.reading() as connection:
            description, noted = connections.described(connection, name) or (None, None)
        if description is None:
            return None
        return harmless(description_in(description), Notes.model_validate(loads(noted)) if noted is not None else None)

    def _mail_told(self, name: str) -> str:
        client, row = self.mail(name), self.row(name)
        try:
            return imap.told(client, str(urlsplit(row["address"]).hostname), msgspec.json.decode(row["way"], type=Way).user)
        except imap.DOWN as error:
            raise FetchFailed(f"The mail server broke off: {type(error).__name__}.", cause="unreachable") from error
        finally:
            client.shutdown()

    def _sender_told(self, name: str) -> str:
        session, row = self.sender(name), self.row(name)
        try:
            return smtp.told(session, str(urlsplit(row["address"]).hostname), msgspec.json.decode(row["way"], type=Way).user)
        finally:
            session.close()

    def sender(self, name: str) -> smtp.Sender:
        """A session at a server that takes mail. Raises `FetchFailed`."""
        row, way, secret = self._opened(name)
        if _scheme(row) not in SENDERS:
            raise FetchFailed(f"The connection {name} leads to {row['address']}, which takes no mail. Its address begins with smtps://.")
        return smtp.signed_in(str(row["address"]), way, secret, private=self._private, trusted=self._trusted)

    def signing(self, name: str) -> tuple[str, str]:
        """User and secret of a connection, to be typed into a form. Raises `FetchFailed`."""
        _, way, secret = self._opened(name)
        if way.kind != "basic":
            raise FetchFailed(f"The connection {name} signs in by {way.kind}; a program that has only a screen wants a user and a password (basic).")
        return way.user, secret

    def signature(self, name: str, id_: str, body: bytes) -> dict[str, str]:
        """The headers by which a payload is signed; none for a connection that signs in otherwise. Raises `FetchFailed`."""
        _, way, secret = self._opened(name)
        return signed_payload(secret, id_, self._clock.now() // 1000, body) if way.kind == "signed" else {}

    def _database_told(self, name: str, row: dict[str, Any]) -> str:
        engine = sql.server_engine(str(row["address"]), lambda: self.database(name))
        try:
            return sql.told(engine, msgspec.json.decode(row["way"], type=Way).user)
        except SQLAlchemyError as error:
            raise FetchFailed(f"The database broke off: {sql.words(getattr(error, 'orig', None) or error)}.", cause="unreachable") from error
        finally:
            engine.dispose()

    def database(self, name: str) -> Any:
        """A connection of its driver, signed in at a server of databases. Raises `FetchFailed`."""
        row, way, secret = self._opened(name)
        if _scheme(row) not in DATABASES:
            known = " or ".join(f"{each}://" for each in DATABASES)
            raise FetchFailed(f"The connection {name} leads to {row['address']}, which is no database. Its address begins with {known}.")
        return sql.signed_in(str(row["address"]), way, secret, private=self._private, trusted=self._trusted)

    def mail(self, name: str) -> imap.Mailserver:
        """A client that is signed in at a mail server by a connection. Raises `FetchFailed`."""
        row, way, secret = self._opened(name)
        if _scheme(row) not in MAIL:
            raise FetchFailed(f"The connection {name} leads to {row['address']}, which is no mail server. Its address begins with imaps://.")
        if way.kind in ("client", "consent"):
            secret = self._tokens.get(name, int(row["put_at"]), way, secret).value
        return imap.signed_in(str(row["address"]), way, secret, private=self._private, trusted=self._trusted)

    def _opened(self, name: str) -> tuple[dict[str, Any], Way, str]:
        """A connection, its way of signing in, and its secret. Raises `FetchFailed`."""
        try:
            row = self.row(name)
            secret = self._sealing.open(bytes(row["sealed"]), name) if row["sealed"] is not None else ""
        except (NotThere, CannotOpen) as error:
            raise FetchFailed(str(error)) from error
        return row, msgspec.json.decode(row["way"], type=Way), secret

    def _as(self, name: str) -> str:
        """As whom it signed in, and what that lets one do, as far as it is told."""
        way = msgspec.json.decode(self.row(name)["way"], type=Way)
        token = self._tokens.known(name)
        may = f", which may {token.scope}" if token is not None and token.scope else ""
        return f"; signed in as {way.user}{may}" if way.user else "; signed in by its secret" if way.kind != "none" else ""

    def signed(self, name: str) -> Signed:
        """What is sent along to the address of a connection. Raises `FetchFailed`."""
        row, way, secret = self._opened(name)
        return signed(str(row["address"]), way, secret, lambda: self._tokens.get(name, int(row["put_at"]), way, secret))

    def at(self, name: str, path: str) -> str:
        """The address of something under a connection. Raises `FetchFailed`."""
        try:
            return joined(str(self.row(name)["address"]), path)
        except (NotThere, ValueError) as error:
            raise FetchFailed(str(error)) from error

    def consent(self, name: str, redirect: str, by: str) -> str:
        """The address at which a person consents to a connection; `by`: who began it. Raises `NotThere`, and `NotNow` for one that is not by consent."""
        way = msgspec.json.decode(self.row(name)["way"], type=Way)
        if way.kind != "consent":
            raise NotNow(f"The connection {name} signs in by {way.kind}, for which nobody consents.")
        return self._tokens.begin(name, way, redirect, by)

    def consented(self, state: str, code: str, by: str, *, builds: bool) -> str:
        """Take what came of a consent, and test the connection; its name. `by`: who is signed in where it came, and whether they may begin one. Raises `FetchFailed`."""

        def opened(name: str) -> tuple[int, Way, str]:
            row, way, secret = self._opened(name)
            return int(row["put_at"]), way, secret

        name = self._tokens.finish(state, code, opened, by, builds=builds)
        self.test(name)
        return name

    def _keep_secret(self, name: str, secret: str) -> None:
        self.seal_along(secret, name, lambda connection, sealed: connections.change(connection, name, sealed=sealed))

    def came(self, name: str, problem: str = "") -> None:
        """A call was made by a connection; what went wrong, or nothing. It is noted where that is news."""
        if not problem and name in self._answering:
            return
        with self._database.reading() as connection:
            row = connections.get(connection, name)
        if row is not None and bool(problem) != (row["failing_since"] is not None):
            self._note(name, problem or "It answers again.", failed=bool(problem), tested=False)
        if problem:
            self._answering.discard(name)
            self._tokens.forget(name)  # it may have been withdrawn
        elif row is not None:
            self._answering.add(name)

    def _note(self, name: str, told: str, *, failed: bool, tested: bool) -> None:
        self._answering.discard(name)
        now, told = self._clock.now(), self.mask(name).text(told)

        def job(connection: Connection) -> None:
            row = connections.get(connection, name)
            if row is None:
                return
            since = (row["failing_since"] or now) if failed else None
            connections.change(connection, name, told=clean(told)[:LONGEST], failing_since=since, **({"tested_at": now} if tested else {}))

        self._database.write(job)

    def seal_along(self, secret: str, of: str, keep: Callable[[Connection, bytes], object]) -> None:
        """Seal a secret of something else than a connection, and keep it. `keep`: what keeps it."""
        with self._keys:
            sealed = self._sealing.seal(secret, of)
            self._database.write(lambda connection: keep(connection, sealed))

    def unsealed(self, sealed: bytes, of: str) -> str:
        """A secret that was sealed so. Raises `CannotOpen`."""
        return self._sealing.open(sealed, of)

    def new_key(self) -> int:
        """Seal every secret with a new key, or with the first of those that the environment gives; how many.

        Whenever that is cut off, every secret can still be opened. Raises `CannotOpen` before anything is changed.
        """
        with self._keys:
            return self._sealed_anew()

    def _sealed_anew(self) -> int:
        keys = keys_of(self._root, self._given)
        if not self._given:
            keys = put_keys(self._root, [new_key(), *keys])
        fresh = Sealing(keys)
        self._sealing = fresh  # opens what is sealed by any of them: calls that are under way go on

        def job(connection: Connection) -> int:
            rows = [row for row in connections.all_connections(connection) if row["sealed"] is not None]
            for row in rows:
                secret = fresh.open(bytes(row["sealed"]), str(row["name"]))
                connections.change(connection, str(row["name"]), sealed=fresh.seal(secret, str(row["name"])))
            addressed = intakes.sealed(connection)
            for row in addressed:
                of = f"intake {row['flow']}/{row['name']}"
                intakes.change(connection, row["flow"], row["name"], sealed=fresh.seal(fresh.open(bytes(row["sealed"]), of), of))
            return len(rows) + len(addressed)

        count = self._database.write(job)
        if not self._given:
            put_keys(self._root, keys[:1])
        return count

    def row(self, name: str) -> dict[str, Any]:
        """A connection as it is kept. Raises `NotThere`."""
        row = self._rows[name]
        if row is None:
            with self._database.reading() as connection:
                known = [str(each["name"]) for each in connections.all_connections(connection)]
            raise NotThere(f"There is no connection {name!r}{meant(name, known)} Known: {', '.join(known) or 'none'}.")
        return row


def _wrong_name(name: str) -> str:
    return "" if re.fullmatch(NAME, name) else f"{name!r} is no name: letters, figures and underscores, at most 40, not a figure first."


def _scheme(row: dict[str, Any]) -> str:
    return urlsplit(str(row["address"])).scheme.lower()


def _shown(row: dict[str, Any]) -> dict[str, Any]:
    """A connection as anybody may see it."""
    told = {name: row[name] for name in ("name", "address", "probe", "put_at", "put_by", "tested_at", "told", "failing_since")}
    return {**told, "way": msgspec.json.decode(row["way"], type=Way), "secret": row["sealed"] is not None}
