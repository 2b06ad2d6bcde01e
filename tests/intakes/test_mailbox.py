"""A mailbox of a real mail server: each mail once, whatever happens to the server, the folder, or the service."""

from __future__ import annotations

import imaplib
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from io import StringIO

import pytest

from metrikon.app.assemble import App
from metrikon.cli import main
from metrikon.core.documents.text import line_text
from metrikon.core.flows.connecting import Way
from metrikon.core.flows.model import Flow, Said
from metrikon.engine.holding import holds
from metrikon.ports.intake import IntakeFailed
from metrikon.store import intakes, listing
from tests.helpers import Running, eventually
from tests.intakes.contract import FLOW, IntakeContract, Place, _items, _restarted, _taken
from tests.intakes.dovecot import SECRET, MailServer, letter


@pytest.fixture(scope="module")
def dovecot() -> Iterator[MailServer]:
    server = MailServer()
    yield server
    server.remove()


class Mails(Place):
    kind, said = "mailbox", ", connection: post"

    def __init__(self, server: MailServer) -> None:
        self.server = server

    def begin(self, app: App) -> None:
        told = app.connections.put("post", self.server.url, Way("basic", "ada"), SECRET, "ada")
        assert told["failing_since"] is None, told["told"]

    def add(self, number: int, at: datetime) -> None:
        self.server.put(letter(number), at=at)

    def condition(self, number: int) -> str:
        return f'item.data.subject != "Letter {number}"'

    def break_off(self) -> Callable[[], None]:
        self.server.stop()
        return self.server.start


class TestMailbox(IntakeContract):
    @pytest.fixture
    def place(self, dovecot: MailServer) -> Place:
        dovecot.empty()
        return Mails(dovecot)


@pytest.fixture
def app(house: Callable[..., App], dovecot: MailServer) -> App:
    dovecot.empty()
    app = house(fetch_private=True)
    Mails(dovecot).begin(app)
    return app


@pytest.fixture
def client(app: App, dovecot: MailServer) -> Iterator[imaplib.IMAP4]:
    """A session of somebody else; the mailbox is empty when it begins."""
    with dovecot.client() as client:
        yield client


def _put(app: App, more: str = "") -> tuple[Flow, Said]:
    app.catalog.put_flow(FLOW % ("mailbox", ", connection: post" + more))
    flow = app.catalog.newest_flow("letters")
    return flow, flow.intakes[0]


def _names(app: App) -> list[str]:
    with app.database.reading() as connection:
        return sorted(row["name"] for row in listing.item_page(connection, most=99).rows)


def test_a_connection_tells_as_whom_and_a_wrong_password_is_told_in_words(app: App, dovecot: MailServer) -> None:
    told = app.connections.test("post")["told"]
    assert "let ada in" in told
    assert "it tells when a mail comes" in told
    wrong = app.connections.put("post", dovecot.url, Way("basic", "ada"), "wrong-one", "ada")
    assert "wrong user or secret" in wrong["told"]
    assert wrong["failing_since"] is not None


def test_attachments_become_items_and_only_those_that_are_wanted(app: App, dovecot: MailServer) -> None:
    dovecot.put(letter(1, attachments={"bill.pdf": b"%PDF-1 a bill", "logo.txt": b"a logo"}))
    dovecot.put(letter(2, attachments={"logo.txt": b"a logo"}))
    dovecot.put(letter(3))
    flow, said = _put(app, ', takes: attachments, attachments: ["*.PDF"]')
    would = app.watching.would(flow, said, 9)
    assert [each["name"] for each in would.listed[-1][0].data["attachments"]] == ["bill.pdf"]
    app.watching.look(flow, said)
    assert _names(app) == ["Letter 1.eml, bill.pdf"]
    app.watching.look(flow, said)
    assert len(_names(app)) == 1


def test_a_mail_and_its_attachments_are_read_as_one(app: App, dovecot: MailServer) -> None:
    dovecot.put(letter(1, attachments={"bill.txt": b"Invoice 17, total 12.00"}))
    flow, said = _put(app, ", takes: together")
    _taken(app, flow, said, 1)
    (row,) = _items(app)
    with app.database.reading() as connection:
        sha256 = str(connection.exec_driver_sql("SELECT sha256 FROM items").scalar())
    text = "\n".join(line_text(page, line) for page in app.workshop.read_document(sha256).pages for line in page.lines)
    assert "this is letter 1" in text
    assert "Invoice 17" in text
    assert row["name"] == "Letter 1.eml"


def test_a_keyword_that_a_person_sets_on_an_old_mail_starts_an_item(app: App, dovecot: MailServer) -> None:
    for number in range(3):
        dovecot.put(letter(number), at=datetime(2023, 11, 1 + number, tzinfo=UTC))
    flow, said = _put(app, ", keyword: task")
    assert app.watching.look(flow, said).count == 0
    with dovecot.client() as client:
        client.select("INBOX")
        client.store("2", "+FLAGS", "(task)")
    _taken(app, flow, said, 1)
    assert _names(app) == ["Letter 1.eml"]
    _restarted(app)
    assert app.watching.look(flow, said).count == 0


def test_what_was_taken_is_marked_or_moved_and_after_a_kill_in_between_as_well(
    app: App, dovecot: MailServer, client: imaplib.IMAP4, monkeypatch: pytest.MonkeyPatch
) -> None:
    dovecot.put(letter(1))
    client.create("Done")
    flow, said = _put(app, ", mark: taken, move: Done")
    with monkeypatch.context() as patched:
        patched.setattr("metrikon.intakes.mailbox.MailSource.settle", lambda *_, **__: (_ for _ in ()).throw(OSError(5, "killed")))
        assert app.watching.look(flow, said).failed
    assert len(_items(app)) == 1
    _restarted(app)
    eventually(lambda: not app.watching.look(flow, said).failed and _count(client, "Done") == 1)
    assert _count(client, "INBOX") == 0
    client.select("Done", readonly=True)
    assert client.search(None, "KEYWORD", "taken")[1] == [b"1"]
    assert len(_items(app)) == 1


def _count(client: imaplib.IMAP4, folder: str) -> int:
    return int(client.select(folder, readonly=True)[1][0] or b"0")


def test_a_folder_that_is_made_anew_gives_no_mail_twice(app: App, dovecot: MailServer, client: imaplib.IMAP4) -> None:
    client.create("Bills")
    at = datetime(2026, 11, 3, tzinfo=UTC)
    dovecot.put(letter(1), "Bills", at)
    flow, said = _put(app, ", folder: Bills")
    _taken(app, flow, said, 1)
    client.delete("Bills")
    client.create("Bills")
    dovecot.put(letter(1), "Bills", at)
    dovecot.put(letter(2), "Bills", at + timedelta(days=1))
    _restarted(app)
    _taken(app, flow, said, 1)
    assert _names(app) == ["Letter 1.eml", "Letter 2.eml"]


def test_the_folders_of_a_mailbox_can_be_chosen_from(app: App, dovecot: MailServer, client: imaplib.IMAP4) -> None:
    dovecot.put(letter(1))
    client.create("Bills")
    found = {each.name: (each.kind, each.about) for each in holds(app.outside, app.describing, "post")}
    assert found["INBOX"] == ("folder", "1 mail")
    assert found["Bills"] == ("folder", "0 mails")


def test_a_folder_that_was_renamed_is_told_with_those_that_are_there(app: App, client: imaplib.IMAP4) -> None:
    client.create("Bills")
    flow, said = _put(app, ", folder: Bills")
    app.watching.look(flow, said)
    assert client.rename("Bills", '"Bills of 2026"')[0] == "OK"
    _restarted(app)
    assert app.watching.look(flow, said).failed
    with pytest.raises(IntakeFailed, match=r"There is no folder 'Bills'.*Bills of 2026"):
        app.watching.test(flow, said)


def test_the_same_mailbox_looked_at_by_two_sessions_at_once_gives_each_mail_once(app: App, dovecot: MailServer) -> None:
    import threading

    for number in range(12):
        dovecot.put(letter(number))
    flow, said = _put(app)
    with app.watching.asking(flow, said) as one, app.watching.asking(flow, said) as two:
        row = app.taking.row(flow, said, one.place)
        app.agreeing.say(flow, said)
        both = [threading.Thread(target=app.taking.look, args=(flow, said, each.source, row)) for each in (one, two)]
        for each in both:
            each.start()
        for each in both:
            each.join()
    assert len(_names(app)) == 12


def test_an_enormous_mail_is_let_go_without_being_fetched_and_those_behind_it_come(house: Callable[..., App], dovecot: MailServer) -> None:
    dovecot.empty()
    app = house(fetch_private=True, max_bytes=5000)
    Mails(dovecot).begin(app)
    dovecot.put(letter(1, attachments={"film.txt": b"x" * 9000}))
    dovecot.put(letter(2))
    flow, said = _put(app)
    _taken(app, flow, said, 1)
    assert _names(app) == ["Letter 2.eml"]


@pytest.mark.parametrize(
    "mail",
    [
        b"",
        b"\r\n",
        b"no mail at all \x00\xff\xfe",
        b"From: =?utf-8?q?" + b"=41" * 5000 + b"?=\r\nSubject: =?x-nonsense?b?!!!?=\r\n\r\nbody",
        b'From: <<<>>>,,,;;; "\r\nMessage-ID: ' + b"<" * 900 + b"\r\nSubject: \x1b[31mred\r\n\r\nbody",
        b"Content-Type: multipart/mixed; boundary=a\r\n\r\n" + b"--a\r\nContent-Type: multipart/mixed; boundary=a\r\n\r\n" * 60,
        b"From: a@b\r\nContent-Type: application/pdf; name*=utf-8''..%2F..%2Fetc%2Fpasswd\r\nContent-Disposition: attachment\r\n\r\nx",
    ],
)
def test_hostile_mails_are_taken_as_they_are_and_hold_up_nothing(mail: bytes, app: App, dovecot: MailServer) -> None:
    if mail:
        dovecot.put(mail)
    dovecot.put(letter(2))
    flow, said = _put(app)
    assert app.watching.would(flow, said, 9).listed
    eventually(lambda: not app.watching.look(flow, said).failed and "Letter 2.eml" in _names(app))


def test_a_mail_whose_wanted_attachment_is_not_among_what_it_holds_is_let_go_and_told(app: App, dovecot: MailServer) -> None:
    picture = letter(1)
    picture.add_attachment(b"\x89PNG\r\n\x1a\n" + b"0" * 200, maintype="image", subtype="png", filename="bill.png", disposition="inline", cid="<a@b>")
    dovecot.put(picture)  # its server names a file bill.png; opened, it is a picture of the signature
    dovecot.put(letter(2, attachments={"bill.png": b"a bill"}))
    flow, said = _put(app, ', takes: attachments, attachments: ["bill.*"]')
    for _ in range(2):
        assert not app.watching.look(flow, said).failed
    assert _names(app) == ["Letter 2.eml, bill.png"]
    with app.database.reading() as connection:
        (gone,) = intakes.listed_let_go(connection, flow.name, said.name, 9)
    assert (gone["name"], gone["why"]) == ("Letter 1.eml", "There is nothing in it that is taken.")


def test_a_running_service_takes_a_mail_as_soon_as_its_server_tells_of_it(app: App, dovecot: MailServer) -> None:
    _put(app, ", every: 3600")
    app.start()
    eventually(lambda: any(each.is_alive() for each in app.watching._slow.values()))
    dovecot.put(letter(1))
    eventually(lambda: _names(app) == ["Letter 1.eml"], 20)
    dovecot.put(letter(2))
    eventually(lambda: len(_names(app)) == 2, 20)


def test_a_password_is_never_sent_in_the_clear_over_a_network(monkeypatch: pytest.MonkeyPatch, dovecot: MailServer) -> None:
    from metrikon.connections import imap
    from metrikon.connections.fetching import FetchFailed

    client = imap.Mailserver("127.0.0.1", dovecot.port, "127.0.0.1", tls=False)
    client.address = "192.0.2.7"
    with pytest.raises(FetchFailed, match="offers no TLS"):
        imap._safely(client, "post.example")
    client.shutdown()


def test_a_new_mailbox_takes_nothing_until_somebody_has_seen_what_it_would_take(running: Callable[..., Running], dovecot: MailServer) -> None:
    dovecot.empty()
    dovecot.put(letter(1, attachments={"bill.pdf": b"%PDF-1 a bill", "other.pdf": b"%PDF-1 another"}))
    dovecot.put(letter(2))
    service = running(fetch_private=True, look_first=True)
    Mails(dovecot).begin(service.app)
    flow = service.app.home / "letters.yaml"
    flow.write_text(FLOW % ("mailbox", ", connection: post, takes: attachments"))

    def command(*words: str) -> str:
        out = StringIO()
        assert main([*words, "--url", service.url, "--token", service.token], out, out) == 0, out.getvalue()
        return out.getvalue()

    def taken() -> int:
        return len(_names(service.app))

    told = command("flows", "put", str(flow))
    assert "Its intake mailbox looks outside and takes nothing until somebody says yes" in told
    assert "metrikon intakes preview letters mailbox" in told
    assert eventually(lambda: service.client.intakes("letters")[0]["waits"] is not None)
    assert any("It waits for a yes" in each for each in service.client.today()["problems"])
    told = command("intakes", "preview", "letters")
    assert "It would take 1 thing that makes 2 items" in told
    assert "1 let go: There is nothing in it that is taken." in told
    assert taken() == 0

    command("intakes", "yes", "letters")
    assert eventually(lambda: taken() == 2)

    flow.write_text(FLOW % ("mailbox", ", connection: post, takes: mail"))  # it would take other things now
    assert "takes nothing until somebody says yes" in command("flows", "put", str(flow))
    assert "takes nothing" not in command("flows", "put", str(flow), "--on")
    assert eventually(lambda: taken() == 2)
