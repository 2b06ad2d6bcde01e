"""A real mail server (Dovecot) for tests, in a folder of its own."""

from __future__ import annotations

import imaplib
import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from datetime import UTC, datetime
from email.message import EmailMessage
from email.policy import SMTP
from pathlib import Path

SECRET = "saffron-crocus-17"
_CONF = """
base_dir = {d}/run
state_dir = {d}/state
log_path = {d}/log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
default_login_user = {user}
default_internal_user = {user}
default_internal_group = {group}
first_valid_uid = 1
first_valid_gid = 0
mail_location = maildir:{d}/mail/%u
mail_max_keyword_length = 100
mail_max_userip_connections = 100
passdb {{
  driver = passwd-file
  args = scheme=PLAIN username_format=%u {d}/passwd
}}
userdb {{
  driver = static
  args = uid={uid} gid={gid} home={d}/mail/%u
}}
service imap-login {{
  chroot =
  inet_listener imap {{
    port = {port}
  }}
}}
service anvil {{
  chroot =
}}
service stats {{
  chroot =
}}
"""


class MailServer:
    """Dovecot on loopback, with a mailbox a user."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="mailserver-"))
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port: int = free.getsockname()[1]
        root = os.geteuid() == 0
        names = ("dovecot", "dovecot") if root else (_name(os.geteuid()), _group(os.getegid()))
        own = (65534, 65534) if root else (os.geteuid(), os.getegid())
        conf = _CONF.format(d=self.folder, user=names[0], group=names[1], uid=own[0], gid=own[1], port=self.port)
        (self.folder / "dovecot.conf").write_text(conf)
        (self.folder / "passwd").write_text(f"ada:{{PLAIN}}{SECRET}::::::\n")
        (self.folder / "passwd").chmod(0o644)  # whatever new files may be read by otherwise
        (self.folder / "mail").mkdir()
        if root:
            for each in (self.folder, self.folder / "mail"):
                os.chown(each, *own)
                each.chmod(0o755)
        self._process: subprocess.Popen[bytes] | None = None
        self.start()

    @property
    def url(self) -> str:
        """Its address."""
        return f"imap://127.0.0.1:{self.port}"

    def start(self) -> None:
        """Start it, and wait until it answers."""
        self._process = subprocess.Popen(
            ["/usr/sbin/dovecot", "-F", "-c", str(self.folder / "dovecot.conf")], stderr=subprocess.DEVNULL, start_new_session=True
        )
        until = time.monotonic() + 20
        while True:
            try:
                self.client().logout()
                return
            except (OSError, imaplib.IMAP4.error):
                if time.monotonic() > until:
                    self.remove()
                    raise
                time.sleep(0.05)

    def stop(self) -> None:
        """Stop it at once; what is connected is cut off."""
        if self._process is not None:
            os.killpg(self._process.pid, signal.SIGKILL)
            self._process.wait(20)
            (self.folder / "run" / "master.pid").unlink(missing_ok=True)
            self._process = None

    def remove(self) -> None:
        """Stop it, and remove what it held."""
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def client(self) -> imaplib.IMAP4:
        """A session of somebody else: a person, or another program."""
        client = imaplib.IMAP4("127.0.0.1", self.port, timeout=20)
        try:
            client.login("ada", SECRET)
        except BaseException:
            client.shutdown()
            raise
        return client

    def empty(self) -> None:
        """Leave nothing in the mailbox."""
        client = self.client()
        for line in client.list()[1]:
            name = line.split(b' "." ')[-1].strip(b'"').decode() if isinstance(line, bytes) else ""
            if name and name != "INBOX":
                client.delete(f'"{name}"')
        client.select("INBOX")
        client.uid("STORE", "1:*", "+FLAGS", r"(\Deleted)")
        client.expunge()
        client.logout()

    def put(self, message: EmailMessage | bytes, folder: str = "INBOX", at: datetime | None = None, flags: str = "") -> None:
        """A mail that comes in."""
        data = message if isinstance(message, bytes) else message.as_bytes(policy=SMTP)
        client = self.client()
        came = imaplib.Time2Internaldate(at or datetime.now(UTC))
        answer, told = client.append(f'"{folder}"', f"({flags})" if flags else None, came, data)
        assert answer == "OK", told
        client.logout()


def letter(
    number: int, *, attachments: dict[str, bytes] | None = None, subject: str = "", sender: str = "Rosa Holm <rosa@seeds.example>"
) -> EmailMessage:
    """A mail to the garden."""
    message = EmailMessage()
    message["From"] = sender
    message["To"] = "garden@ellerby.example"
    message["Subject"] = subject or f"Letter {number}"
    message["Message-ID"] = f"<{number}@seeds.example>"
    message.set_content(f"Dear garden, this is letter {number}.\n")
    for name, data in (attachments or {}).items():
        message.add_attachment(data, maintype="text", subtype="plain", filename=name)
    return message


def _name(uid: int) -> str:
    import pwd

    return pwd.getpwuid(uid).pw_name


def _group(gid: int) -> str:
    import grp

    return grp.getgrgid(gid).gr_name
