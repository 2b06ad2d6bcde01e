"""Who is asking: a person with a session, or a program with a token. Everything else is turned away."""

from __future__ import annotations

import hmac
import math
import secrets
import threading
from urllib.parse import unquote

from flask import Flask, Response, g, request
from werkzeug.security import check_password_hash, generate_password_hash

from metrikon.app.assemble import App
from metrikon.core.values.text import clean
from metrikon.service.problems import Problem
from metrikon.service.roles import may, needed
from metrikon.service.tries import TooMany, Tries
from metrikon.store import people

COOKIE = "metrikon_session"
LOOKING = ("GET", "HEAD", "OPTIONS")
DAY = 86_400_000  # milliseconds
PERSON_HEADER = "Metrikon-Person"  # who sits at the command, percent-encoded UTF-8
LONGEST_PERSON = 40  # characters
CSRF_HEADER = "X-CSRF-Token"
OPEN = ("/health", "/ready", "/api/session", "/api/openapi.json")
_NOBODY = generate_password_hash(secrets.token_hex(16))


class Guard:
    """Checks every request to the API, and signs people in and out."""

    def __init__(self, app: App) -> None:
        self.app = app
        self._tries = Tries()
        self._looking = threading.Semaphore(2)  # passwords are costly to look at
        self._noted: dict[str, int] = {}

    def install(self, flask: Flask) -> None:
        flask.before_request(self.check)

    def check(self) -> Response | None:
        """Let the request through, or raise a problem."""
        g.person, g.role = None, ""
        if not request.path.startswith("/api/") or (request.path in OPEN and request.method != "DELETE"):
            return None
        header = request.headers.get("Authorization", "")
        if header.startswith("Bearer "):
            g.person, role = self._token(header.removeprefix("Bearer ").strip())
        else:
            g.person, role = self._session()
        g.role = role
        operation, looks_only = str(request.endpoint or ""), request.method in LOOKING
        if request.endpoint is not None and not may(role, operation, looks_only=looks_only):
            wanted = needed(operation, looks_only=looks_only)
            raise Problem(403, "not-your-role", f"Your role is {role}; this takes the role {wanted}. Ask an admin for it.", role=role, wanted=wanted)
        return None

    def _token(self, secret: str) -> tuple[str, str]:
        now = self.app.clock.now()
        with self.app.database.reading() as connection:
            token = people.token_of(connection, secret, now)
        if token is None:
            raise Problem(401, "bad-token", "The token is not known here, or has ended. Make one with `metrikon tokens add`.")
        key = people.hashed(secret)
        if now - self._noted.get(key, 0) > 60_000:
            self._noted[key] = now
            self.app.database.submit(lambda connection: people.token_used(connection, secret, now))
        return _named(token.name), token.role

    def _session(self) -> tuple[str, str]:
        session = self._opened(request.cookies.get(COOKIE, ""))
        if session is None:
            raise Problem(401, "not-signed-in", "Sign in, or send a token in the Authorization header.")
        if request.method not in LOOKING and not hmac.compare_digest(request.headers.get(CSRF_HEADER, "").encode(), session.csrf.encode()):
            raise Problem(403, "csrf", f"The request carries no valid {CSRF_HEADER}. Reload the page and try again.")
        return session.person, session.role

    def sign_in(self, name: str, password: str) -> tuple[people.Session, str]:
        """The session of a person and the secret for their cookie. Raises a problem for a wrong password."""
        now, address = self.app.clock.now(), request.remote_addr or ""
        try:
            self._tries.begin(address, name, now / 1000)
        except TooMany as error:
            raise Problem(429, "too-many-tries", str(error), headers={"Retry-After": str(math.ceil(error.wait))}) from error
        with self.app.database.reading() as connection:
            kept = people.password_hash(connection, name)
        with self._looking:
            right = check_password_hash(kept or _NOBODY, password)
        if not right or kept is None:
            raise Problem(401, "wrong-password", "The name or the password is not right.")
        self._tries.right(address, name)
        secret, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
        until = now + self.app.settings.session_hours * 3_600_000
        opened = people.Session(name, csrf)
        if not self.app.database.write(lambda connection: people.open_session(connection, secret, opened, until, now, kept)):
            raise Problem(401, "wrong-password", "The password was changed just now. Sign in with the new one.")
        return self._opened(secret) or opened, secret

    def current(self) -> people.Session | None:
        """The session of this request, if any."""
        return self._opened(request.cookies.get(COOKIE, ""))

    def _opened(self, secret: str) -> people.Session | None:
        with self.app.database.reading() as connection:
            return people.session(connection, secret, self.app.clock.now()) if secret else None

    def sign_out(self) -> None:
        """End the session of this request."""
        secret = request.cookies.get(COOKIE, "")
        if secret:
            self.app.database.write(lambda connection: people.close_session(connection, secret))


def set_password(app: App, name: str, password: str | None, role: str | None = None) -> bool:
    """Create a person, or change their password or role; whether they are new. Raises `people.LastAdmin`."""
    kept, now = generate_password_hash(password) if password is not None else None, app.clock.now()
    return app.database.write(lambda connection: people.put_person(connection, name, kept, role, now))


def add_token(app: App, name: str, role: str = "admin", days: int = 0) -> tuple[str, str]:
    """A new token: (id, secret). The secret is shown once and kept as a hash only. `days`: after which it ends; 0: never."""
    secret, token_id, now = "mk_" + secrets.token_urlsafe(32), app.clock.new_id(), app.clock.now()
    token, until = people.Token(token_id, name, role), now + days * DAY if days else None
    app.database.write(lambda connection: people.add_token(connection, token, secret, until, now))
    return token_id, secret


def _named(token: str) -> str:
    """By whom something is done that comes with a token: its name, and the person for whom is asked, as the sender says. That is no sign-in, and no name that signs in."""
    person = clean(unquote(request.headers.get(PERSON_HEADER, "")[:400])).strip()[:LONGEST_PERSON]
    return f"{person} (token {token})" if person else f"token {token}"
