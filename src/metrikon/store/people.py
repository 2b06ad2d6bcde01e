"""Who may come in: people with passwords and sessions, programs with tokens. Secrets are kept as hashes only."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from sqlalchemy import Connection, delete, insert, select, update

from metrikon.store.tables import people, sessions, tokens


@dataclass(frozen=True)
class Session:
    """A person who is signed in, the mark that their requests must carry, and what they may do."""

    person: str
    csrf: str
    role: str = "admin"


def hashed(secret: str) -> str:
    """SHA-256 of a random secret of at least 128 bits (guessing it is hopeless, so no salt is needed)."""
    return hashlib.sha256(secret.encode()).hexdigest()


class LastAdmin(Exception):
    """Nobody would be left who may let others in."""


def put_person(connection: Connection, name: str, password_hash: str | None, role: str | None, at: int) -> bool:
    """Create a person, or change their password or role; whether they are new. With another password their sessions end. Raises `LastAdmin`."""
    there = connection.execute(select(people).where(people.c.name == name)).mappings().first()
    if there is None:
        first = not any_people(connection)
        role = role or ("admin" if first else "reviewer")
        connection.execute(insert(people), [{"name": name, "password": password_hash or "", "created_at": at, "role": role}])
    else:
        changed = {"password": password_hash or there["password"], "role": role or there["role"]}
        connection.execute(update(people).where(people.c.name == name).values(changed))
    if password_hash is not None:
        connection.execute(delete(sessions).where(sessions.c.person == name))
    _an_admin_is_left(connection)
    return there is None


def drop_person(connection: Connection, name: str) -> bool:
    """Let a person in no more; whether they were there. Raises `LastAdmin`."""
    there = connection.execute(delete(people).where(people.c.name == name)).rowcount
    connection.execute(delete(sessions).where(sessions.c.person == name))
    if there:
        _an_admin_is_left(connection)
    return bool(there)


def _an_admin_is_left(connection: Connection) -> None:
    if connection.execute(select(people.c.name).where(people.c.role == "admin").limit(1)).first() is None:
        raise LastAdmin("Nobody would be left who may let others in. Make another person an admin first.")


def all_people(connection: Connection) -> list[dict[str, object]]:
    """People without their passwords."""
    query = select(people.c.name, people.c.role, people.c.created_at).order_by(people.c.name)
    return [dict(row) for row in connection.execute(query).mappings()]


def password_hash(connection: Connection, name: str) -> str | None:
    """The password hash of a person, or None."""
    return connection.execute(select(people.c.password).where(people.c.name == name)).scalar()


def any_people(connection: Connection) -> bool:
    """Whether there is anyone who could sign in."""
    return connection.execute(select(people.c.name).limit(1)).scalar() is not None


def open_session(connection: Connection, secret: str, opened: Session, until: int, now: int, password: str) -> bool:
    """Sign a person in whose password was found right, by its hash; whether that still is theirs. Sessions that are over are cleared away."""
    if password_hash(connection, opened.person) != password:
        return False
    connection.execute(delete(sessions).where(sessions.c.until < now))
    connection.execute(insert(sessions), [{"id_hash": hashed(secret), "person": opened.person, "csrf": opened.csrf, "until": until}])
    return True


def session(connection: Connection, secret: str, now: int) -> Session | None:
    """The session that a secret opens, if it is not over."""
    query = (
        select(sessions.c.person, sessions.c.csrf, people.c.role)
        .join(people, people.c.name == sessions.c.person)
        .where(sessions.c.id_hash == hashed(secret), sessions.c.until >= now)
    )
    row = connection.execute(query).first()
    return Session(row.person, row.csrf, row.role) if row else None


def close_session(connection: Connection, secret: str) -> None:
    """Sign out."""
    connection.execute(delete(sessions).where(sessions.c.id_hash == hashed(secret)))


@dataclass(frozen=True)
class Token:
    """A token that programs come in with."""

    id: str
    name: str
    role: str


def add_token(connection: Connection, token: Token, secret: str, until: int | None, at: int) -> None:
    """Keep the hash of a token. `until`: when it ends (milliseconds since 1970)."""
    row = {"id": token.id, "name": token.name, "role": token.role, "hash": hashed(secret), "until": until, "created_at": at}
    connection.execute(insert(tokens), [row])


def token_of(connection: Connection, secret: str, now: int) -> Token | None:
    """The token that a secret is, or None; one that has ended is none."""
    query = select(tokens.c.id, tokens.c.name, tokens.c.role, tokens.c.until).where(tokens.c.hash == hashed(secret))
    row = connection.execute(query).first()
    return Token(row.id, row.name, row.role) if row and (row.until is None or row.until > now) else None


def token_used(connection: Connection, secret: str, at: int) -> None:
    """Note when a token was used."""
    connection.execute(update(tokens).where(tokens.c.hash == hashed(secret)).values(used_at=at))


def all_tokens(connection: Connection) -> list[dict[str, object]]:
    """Tokens without their secrets."""
    query = select(tokens.c.id, tokens.c.name, tokens.c.role, tokens.c.created_at, tokens.c.used_at, tokens.c.until).order_by(tokens.c.id)
    return [dict(row) for row in connection.execute(query).mappings()]


def drop_token(connection: Connection, token_id: str) -> bool:
    """Forget a token; whether it was there."""
    return bool(connection.execute(delete(tokens).where(tokens.c.id == token_id)).rowcount)
