"""What other services post to an address of its own: who sent it is proved by a signature or a secret, and sent again it is the same item."""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, Literal

from pydantic import Field

from metrikon.connections.signing import signature
from metrikon.core.documents.bundling import bundled
from metrikon.core.feel import BadExpression, FeelError, evaluate, text_of
from metrikon.core.flows.coming import OPENED, Coming
from metrikon.core.flows.form import Condition
from metrikon.core.values.exact import NotJson, as_kept, dumps, loads
from metrikon.core.values.text import clean
from metrikon.ports.intake import IntakeKind, Piece, Thing

TOLERANCE = 300  # seconds that the clocks of sender and receiver may be apart (Standard Webhooks, "Verifying webhook authenticity")
_ENDINGS = {
    "application/json": "json",
    "text/plain": "txt",
    "text/html": "html",
    "text/csv": "csv",
    "application/pdf": "pdf",
    "application/xml": "xml",
    "text/xml": "xml",
    "message/rfc822": "eml",
    "text/vtt": "vtt",
    "audio/wav": "wav",
    "audio/x-wav": "wav",
    "audio/mpeg": "mp3",
    "audio/ogg": "ogg",
    "audio/webm": "webm",
    "audio/mp4": "m4a",
    "image/png": "png",
    "image/jpeg": "jpg",
}


class Webhook(Coming):
    """What other services post: JSON, a form, files, plain text or a recording."""

    called = ("http", "hook", "post", "api")

    sign: Literal["standard", "hmac", "token", "basic", "none"] = Field(
        "standard",
        description="How the sender proves who it is: signed as Standard Webhooks has it; an HMAC (SHA-256) of the body in a header; the secret in a header; "
        "user and password; or by knowing the address alone.",
    )
    header: str | None = Field(None, pattern=r"^[A-Za-z0-9-]{1,80}$", description="Of hmac and token: the header; else Authorization, with Bearer.")
    user: str = Field("metrikon", min_length=1, max_length=80, pattern=r"^[^:\x00-\x1f]+$", description="Of basic: the user.")
    id: Condition | None = Field(
        None,
        description="A FEEL expression of what tells one event from others, such as item.data.call.id; else webhook-id or Idempotency-Key, as sent.",
    )
    takes: Literal["each", "together"] = Field("together", description="Several files sent at once: an item each, or read as one.")
    opened: bool = Field(False, description=OPENED)
    within: float = Field(0, ge=0, le=120, description="Seconds for which the sender waits for the end of the run; 0: it is answered at once.")
    answer: Any = Field(None, description="What the sender is told when the run has ended within that time; ${ … } sees item, run and the steps.")


@dataclass(frozen=True)
class Posted:
    """What was sent: headers with small letters, the body as it came, and what a form holds."""

    headers: Mapping[str, str]
    body: bytes
    form: Mapping[str, Any] | None = None
    files: Sequence[tuple[str, bytes]] = field(default_factory=tuple)

    @property
    def media(self) -> str:
        """Its media type."""
        return self.headers.get("content-type", "").partition(";")[0].strip().lower()


def unproved(said: Webhook, secret: str, posted: Posted, now: float) -> str:
    """Why a sender is not believed, at a moment in seconds since 1970; nothing when it is. What is compared takes the same time whatever is wrong."""
    if said.sign == "none":
        return ""
    if said.sign == "standard":
        return _not_signed(secret, posted, now)
    if said.sign == "hmac":
        name = (said.header or "X-Signature").lower()
        given = posted.headers.get(name, "").strip()
        made = hmac.new(secret.encode(), posted.body, hashlib.sha256)
        known = (made.hexdigest(), f"sha256={made.hexdigest()}", base64.b64encode(made.digest()).decode())
        right = [hmac.compare_digest(given.encode(), each.encode()) for each in known]
        return "" if any(right) else f"The header {name} does not hold the HMAC (SHA-256) of the body under this intake's secret."
    given = posted.headers.get((said.header or "Authorization").lower(), "")
    wanted = secret if said.header and said.sign == "token" else f"Bearer {secret}"
    if said.sign == "basic":
        given, wanted = posted.headers.get("authorization", ""), f"Basic {base64.b64encode(f'{said.user}:{secret}'.encode()).decode()}"
    return "" if hmac.compare_digest(given.encode(), wanted.encode()) else "The secret that was sent is not that of this intake."


def unproved_by_head(said: Webhook, secret: str, headers: Mapping[str, str], now: float) -> str:
    """The same, as far as the head of a request tells, before its body is there."""
    if said.sign == "hmac":
        name = (said.header or "X-Signature").lower()
        return "" if headers.get(name, "").strip() else f"It is not signed: the header {name} is wanted."
    if said.sign == "standard":
        return _no_signature(headers, now)
    return unproved(said, secret, Posted(headers, b""), now)


def _no_signature(headers: Mapping[str, str], now: float) -> str:
    id_, at, given = (headers.get(f"webhook-{name}", "") for name in ("id", "timestamp", "signature"))
    if not id_ or not (at.isascii() and at.isdecimal() and len(at) <= 12) or not given:
        return "It is not signed: the headers webhook-id, webhook-timestamp and webhook-signature are wanted."
    if abs(now - int(at)) > TOLERANCE:
        return f"Its webhook-timestamp is more than {TOLERANCE // 60} minutes away from the time here."
    return ""


def _not_signed(secret: str, posted: Posted, now: float) -> str:
    """Standard Webhooks: an HMAC (SHA-256) of id, time and body."""
    wrong = _no_signature(posted.headers, now)
    if wrong:
        return wrong
    id_, at, given = (posted.headers[f"webhook-{name}"] for name in ("id", "timestamp", "signature"))
    made = signature(secret, id_, int(at), posted.body)
    right = [hmac.compare_digest(each.encode(), made.encode()) for each in given.split()[:10]]
    return "" if any(right) else "Its webhook-signature is not made with this intake's secret."


def taken_from(said: Webhook, posted: Posted, now: int, within: Literal["", "each"]) -> tuple[Thing, list[Piece]]:
    """What was sent as a thing with its pieces, at a moment (milliseconds since 1970). Its identity is empty where nothing tells it from others."""
    data, pieces = _read(posted, _named(said, posted, now), within)
    if len(pieces) > 1 and said.takes == "together":
        pieces = [Piece(pieces[0].name, bundled([(each.name, each.data) for each in pieces]))]
    return Thing("", pieces[0].name, now, sum(len(each.data) for each in pieces), data), pieces


def identity_of(said: Webhook, posted: Posted, thing: Thing) -> str:
    """What tells an event from others; empty where nothing does."""
    if said.id is not None:
        scope = {"item": as_kept({"name": thing.name, "size": thing.size, "data": thing.data})}
        try:
            found = evaluate(said.id, scope, None, datetime.fromtimestamp(thing.at / 1000, UTC))
        except (BadExpression, FeelError):
            found = None
        if found is not None:
            return (text_of(found) or "")[:400]
    if said.sign == "hmac":  # no time is signed, and no id: what was signed is told by its signature, so that it is not taken twice under another id
        return f"signed {hashlib.sha256(posted.headers.get((said.header or 'X-Signature').lower(), '').strip().removeprefix('sha256=').encode()).hexdigest()}"
    return (posted.headers.get("webhook-id") or posted.headers.get("idempotency-key") or "").strip()[:400]


def _read(posted: Posted, name: str, within: Literal["", "each"]) -> tuple[Any, list[Piece]]:
    if posted.form is not None:
        fields = {clean(str(key))[:200]: value for key, value in posted.form.items()}
        several = len(posted.files) > 1
        files = [Piece(each, content, f"/{n}" if several else "", within) for n, (each, content) in enumerate(posted.files, 1)]
        return fields, files or [Piece(f"{name}.json", dumps(fields))]
    if posted.media == "application/json" or posted.media.endswith("+json"):
        try:
            return loads(posted.body), [Piece(f"{name}.json", posted.body)]
        except NotJson:
            return None, [Piece(f"{name}.json", posted.body)]
    ending = _ENDINGS.get(posted.media, "")
    told: dict[str, Any] = {"type": posted.media}
    if posted.media == "text/plain":
        told["text"] = "\n".join(clean(line) for line in posted.body.decode("utf-8", "replace").splitlines())
    return told, [Piece(f"{name}.{ending}" if ending and not name.lower().endswith(f".{ending}") else name, posted.body, "", within)]


def _named(said: Webhook, posted: Posted, now: int) -> str:
    disposition = posted.headers.get("content-disposition", "")
    told = disposition.partition("filename=")[2].strip(' "').partition('"')[0]
    moment = datetime.fromtimestamp(now / 1000, UTC)
    return clean(told)[:200] or f"{said.name or 'webhook'} {moment:%Y-%m-%d %H.%M.%S}"


KIND = IntakeKind(
    "webhook",
    Webhook,
    lambda said: "what other services post",
    sent="/in/",
    proved=True,
    gives="What was posted: the JSON that came, or the fields of the form.",
)
