"""Who may come in: people with passwords and sessions, programs with tokens. Secrets are kept as hashes only."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from sqlalchemy import Connection, delete, insert, select, update

from metrikon.store.tables import people, sessions, tokens


@dataclass(frozen=True)
class Session:
    """A person who is signed in, and the mark that their requests must carry."""

    person: str
    csrf: str


def hashed(secret: str) -> str:
    """SHA-256 of a random secret of at least 128 bits (guessing it is hopeless, so no salt is needed)."""
    return hashlib.sha256(secret.encode()).hexdigest()


def set_password(connection: Connection, name: str, password_hash: str, at: int) -> None:
    """Create a person or change their password; their sessions end."""
    connection.execute(delete(people).where(people.c.name == name))
    connection.execute(delete(sessions).where(sessions.c.person == name))
    connection.execute(insert(people), [{"name": name, "password": password_hash, "created_at": at}])


def password_hash(connection: Connection, name: str) -> str | None:
    """The password hash of a person, or None."""
    return connection.execute(select(people.c.password).where(people.c.name == name)).scalar()


def any_people(connection: Connection) -> bool:
    """Whether there is anyone who could sign in."""
    return connection.execute(select(people.c.name).limit(1)).scalar() is not None


def open_session(connection: Connection, secret: str, person: str, csrf: str, until: int, now: int) -> None:
    """Sign a person in; sessions that are over are cleared away."""
    connection.execute(delete(sessions).where(sessions.c.until < now))
    connection.execute(insert(sessions), [{"id_hash": hashed(secret), "person": person, "csrf": csrf, "until": until}])


def session(connection: Connection, secret: str, now: int) -> Session | None:
    """The session that a secret opens, if it is not over."""
    query = select(sessions.c.person, sessions.c.csrf).where(sessions.c.id_hash == hashed(secret), sessions.c.until >= now)
    row = connection.execute(query).first()
    return Session(row.person, row.csrf) if row else None


def close_session(connection: Connection, secret: str) -> None:
    """Sign out."""
    connection.execute(delete(sessions).where(sessions.c.id_hash == hashed(secret)))


def add_token(connection: Connection, token_id: str, name: str, secret: str, at: int) -> None:
    """Keep the hash of a token."""
    connection.execute(insert(tokens), [{"id": token_id, "name": name, "hash": hashed(secret), "created_at": at}])


def token_name(connection: Connection, secret: str) -> str | None:
    """The name of the token that a secret is, or None."""
    return connection.execute(select(tokens.c.name).where(tokens.c.hash == hashed(secret))).scalar()


def token_used(connection: Connection, secret: str, at: int) -> None:
    """Note when a token was used."""
    connection.execute(update(tokens).where(tokens.c.hash == hashed(secret)).values(used_at=at))


def all_tokens(connection: Connection) -> list[dict[str, object]]:
    """Tokens without their secrets."""
    query = select(tokens.c.id, tokens.c.name, tokens.c.created_at, tokens.c.used_at).order_by(tokens.c.id)
    return [dict(row) for row in connection.execute(query).mappings()]


def drop_token(connection: Connection, token_id: str) -> bool:
    """Forget a token; whether it was there."""
    return bool(connection.execute(delete(tokens).where(tokens.c.id == token_id)).rowcount)
