"""A real server that takes mail, for tests."""

from __future__ import annotations

import email
import email.policy
from email.message import EmailMessage
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword, Session

SECRET = "saffron-crocus-17"


class Post:
    """A real server that takes mail; it can refuse, and lose its answer after it has taken one."""

    def __init__(self) -> None:
        self.taken: list[EmailMessage] = []
        self.lose = 0
        self.answer = ""
        self.controller = _Controller(self, hostname="127.0.0.1", port=1, authenticator=self._who, auth_required=True, auth_require_tls=False)
        self.controller.start()

    @property
    def url(self) -> str:
        return f"smtp://127.0.0.1:{self.controller.port}"

    def _who(self, server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any) -> AuthResult:
        return AuthResult(success=isinstance(data, LoginPassword) and data.password == SECRET.encode(), handled=False)

    async def handle_RCPT(self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]) -> str:
        if address.startswith("nobody"):
            return "550 no such mailbox"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.answer:
            return self.answer
        assert isinstance(envelope.content, bytes)
        message = email.message_from_bytes(envelope.content, policy=email.policy.default)
        message["X-For"] = ", ".join(envelope.rcpt_tos)
        self.taken.append(message)
        if self.lose:
            self.lose -= 1
            assert server.transport is not None
            server.transport.close()
        return "250 taken"


class _Controller(Controller):
    def _trigger_server(self) -> None:
        self.port = self.server.sockets[0].getsockname()[1]  # type: ignore[union-attr]
        super()._trigger_server()  # type: ignore[no-untyped-call]

    def _create_server(self) -> Any:
        self.port = 0
        return super()._create_server()
