"""Mails, messages, payloads and files on their way out: once each, in the right form, whatever is lost; what is hostile in a value stays a value."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.core.flows.problems import BadFlow
from metrikon.engine.again import Chosen
from metrikon.ports.step import Call, StepFailed
from metrikon.sandbox.chat import TOKEN
from metrikon.sandbox.services import Services
from metrikon.steps import mail, save
from metrikon.store import journal
from tests.dav import SECRET as DAV_SECRET
from tests.dav import USER as DAV_USER
from tests.dav import DavServer
from tests.helpers import Running, at_rest, eventually, run_state
from tests.intakes.dovecot import SECRET as BOX_SECRET
from tests.intakes.dovecot import MailServer
from tests.post import SECRET, Post

pytestmark = pytest.mark.filterwarnings("ignore:Requiring AUTH while not requiring TLS")


@pytest.fixture
def app(tmp_path: Path) -> Iterator[App]:
    made = App(Settings(home=tmp_path / "home", fetch_private=True, fetches_a_minute=0, model_rest=1))
    made.start()
    yield made
    made.close()


@pytest.fixture
def post() -> Iterator[Post]:
    made = Post()
    yield made
    made.controller.stop()


def _flow(app: App, step: str) -> None:
    app.catalog.put_flow(
        f"metrikon: 1\nname: out\nintakes: [{{kind: upload}}]\nsteps:\n- name: sent\n  {step}\n  retry: {{attempts: 3, wait: 0.1}}\n"
    )


def _take(app: App, name: str = "a.txt", data: bytes = b"hello") -> str:
    arrived = app.arrivals.take("out", "upload", name, name, data)
    if arrived.held:
        app.answers.continue_run(arrived.run_id, "ada")  # equal bytes are meant here
    return str(arrived.run_id)


def _until(app: App, run: str, state: str) -> None:
    eventually(lambda: run_state(app, run)[0] == state)


def _result(app: App, run: str) -> dict[str, Any]:
    with app.database.reading() as connection:
        return next(dict(entry.data["result"]) for _, entry in journal.load(connection, run) if entry.event == "done")


MAIL = (
    'mail: {connection: post, sender: "Garden <office@garden.example>", to: [ada@x.example, "Bo Ferry <bo@x.example>"], bcc: cy@x.example, '
    'subject: "About ${item.name}", text: "It came: ${item.name}", html: "<p>It came: <b>${item.name}</b></p>", files: [{file: "${item.file}", name: "${item.name}"}], '
    "answers: first@seeds.example%s}"
)


def test_a_mail_goes_out_once_with_its_files_and_in_its_thread(app: App, post: Post) -> None:
    assert "takes mail from ada" in app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")["told"]
    _flow(app, MAIL % "")
    run = _take(app, "<script>&.txt", b"leaves")
    at_rest(app, 1)
    [mail] = post.taken
    assert (mail["From"], mail["To"], mail["Cc"], mail["Bcc"]) == (
        "Garden <office@garden.example>",
        "ada@x.example, Bo Ferry <bo@x.example>",
        None,
        None,
    )
    assert (mail["X-For"], mail["Subject"], mail["In-Reply-To"]) == (
        "ada@x.example, bo@x.example, cy@x.example",
        "About <script>&.txt",
        "<first@seeds.example>",
    )
    body, marked = mail.get_body(("plain",)), mail.get_body(("html",))
    assert body is not None
    assert marked is not None
    assert body.get_content().strip() == "It came: <script>&.txt"
    assert "<b>&lt;script&gt;&amp;.txt</b>" in marked.get_content()
    assert [each.get_content() for each in mail.iter_attachments()] == ["leaves"]
    assert _result(app, run) == {"id": mail["Message-ID"], "to": ["ada@x.example", "bo@x.example", "cy@x.example"], "refused": {}}


def test_no_value_makes_a_header_of_its_own(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    app.catalog.put_flow(
        "metrikon: 1\nname: out\nintakes: [{kind: upload}]\nsteps:\n- {name: sent, mail: {connection: post, sender: o@x.example, to: ada@x.example, "
        'subject: "hello\\r\\nBcc: all@x.example", text: x}}\n- {name: second, mail: {connection: post, sender: o@x.example, '
        'to: "ada@x.example\\r\\nBcc: all@x.example", subject: s, text: x}}\n'
    )
    run = _take(app)
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert "is no address of mail" in run_state(app, run)[1]
    [mail] = post.taken
    assert (mail["Subject"], mail["X-For"]) == ("hello Bcc: all@x.example", "ada@x.example")


def test_who_is_refused_is_told_and_a_mail_for_nobody_fails(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    _flow(app, 'mail: {connection: post, sender: o@x.example, to: "nobody@x.example, ada@x.example", subject: s, text: t}')
    run = _take(app)
    at_rest(app, 1)
    assert _result(app, run)["refused"] == {"nobody@x.example": "550 no such mailbox"}
    _flow(app, "mail: {connection: post, sender: o@x.example, to: nobody@x.example, subject: s, text: t}")
    run = _take(app, "b.txt")
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert "taken for nobody" in run_state(app, run)[1]
    post.answer = "552 too large"
    _flow(app, "mail: {connection: post, sender: o@x.example, to: ada@x.example, subject: s, text: t}")
    run = _take(app, "c.txt")
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert "552 too large" in run_state(app, run)[1]


ONE_MAIL = 'mail: {connection: post, sender: o@x.example, to: ada@x.example, subject: "${item.name}", text: "${said.text}"}'
SAID = "metrikon: 1\nname: out\nintakes: [{kind: upload}]\nsteps:\n- {name: said, set: {text: hello}}\n- name: sent\n  MAIL\n"


def test_a_mail_goes_out_once_however_often_its_item_is_run_again_unless_that_is_said(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    app.catalog.put_flow(SAID.replace("MAIL", ONE_MAIL))
    run = _take(app)
    _until(app, run, "done")
    item = app.again.run_of(run)
    for start in ("", "sent"):
        again = app.again.item(item, "ada", start)
        _until(app, again, "done")
        assert {name: value for name, value in _result(app, again).items() if name != "by"} == _result(app, run)
    assert len(post.taken) == 1
    for count, start in enumerate(("", "sent"), 2):
        _until(app, app.again.item(item, "ada", start, send_again=True), "done")
        assert len(post.taken) == count
    assert app.again.cost(Chosen("out"), "sent").sent == {"mail": 1}
    app.catalog.put_flow(SAID.replace("MAIL", ONE_MAIL.replace("subject:", "if_sent: again, subject:")))
    _until(app, app.again.item(item, "ada"), "done")
    assert len(post.taken) == 4


def test_a_mail_with_a_key_goes_out_once_for_it_over_all_items(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    app.catalog.put_flow(SAID.replace("MAIL", ONE_MAIL.replace("subject:", 'key: ["${string length(item.name)}"], subject:')))
    for name in ("a.txt", "b.txt", "long.txt"):
        _until(app, _take(app, name, name.encode()), "done")
    assert [each["Subject"] for each in post.taken] == ["a.txt", "long.txt"]


def test_of_many_at_once_with_one_key_one_mail_goes_out_and_the_others_tell_what_differs(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    app.catalog.put_flow(SAID.replace("MAIL", ONE_MAIL.replace("subject:", 'key: ["${string length(item.name)}"], subject:')))
    taken = [_take(app, f"{number}.txt", str(number).encode()) for number in range(8)]
    for run in taken:
        _until(app, run, "done")
    assert len(post.taken) == 1
    told = [run_state(app, run)[1] for run in taken]
    assert sum("The mail went out before with other values, and was not repeated: subject is" in each for each in told) == 7
    assert told.count("") == 1


def test_two_steps_with_the_same_key_send_a_mail_each(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    keyed = ONE_MAIL.replace("subject:", 'key: ["${item.name}"], subject:')
    app.catalog.put_flow(SAID.replace("MAIL", keyed) + f"- name: reminded\n  {keyed}\n")
    _until(app, _take(app), "done")
    assert len(post.taken) == 2


def test_a_corrected_mail_is_asked_about_with_both_sides(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    app.catalog.put_flow(SAID.replace("MAIL", ONE_MAIL))
    run = _take(app)
    _until(app, run, "done")
    item = app.again.run_of(run)
    again = app.again.item(item, "ada", "sent", {"said.text": "good day"})
    _until(app, again, "parked")
    assert run_state(app, again)[1].startswith("The mail went out before, with other values (post): text is hello, the paper says good day.")
    app.answers.continue_run(again, "ada", otherwise="keep")
    _until(app, again, "done")
    assert len(post.taken) == 1
    again = app.again.item(item, "ada", "sent")
    _until(app, again, "parked")
    app.answers.continue_run(again, "ada", otherwise="renew")
    _until(app, again, "done")
    assert [each.get_content().strip() for each in post.taken] == ["hello", "good day"]
    last = app.again.item(item, "ada", "sent")
    _until(app, last, "done")
    assert len(post.taken) == 2, "it goes by what was sent last"


def test_a_mail_that_an_earlier_run_may_have_sent_is_asked_about(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    app.catalog.put_flow(SAID.replace("MAIL", ONE_MAIL))
    post.lose = 1
    run = _take(app)
    _until(app, run, "parked")
    again = app.again.item(app.again.run_of(run), "ada")
    _until(app, again, "parked")
    assert "whether it went out cannot be told" in run_state(app, again)[1]
    app.answers.continue_run(again, "ada", unsure="went")
    _until(app, again, "done")
    last = app.again.item(app.again.run_of(run), "ada")
    _until(app, last, "done")
    assert len(post.taken) == 1


def test_a_mail_whose_answer_was_lost_waits_for_a_person_and_goes_once(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    _flow(app, MAIL % "")
    post.lose = 1
    run = _take(app)
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert "Whether the mail went out cannot be told" in run_state(app, run)[1]
    app.answers.continue_parked("ada")
    eventually(lambda: run_state(app, run)[0] == "parked")
    app.answers.continue_run(run, "ada", unsure="went")
    at_rest(app, 1)
    assert len(post.taken) == 1


def test_a_mail_that_was_cut_off_is_looked_for_among_the_sent_ones(app: App, post: Post) -> None:
    box = MailServer()
    try:
        app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
        app.connections.put("box", box.url, Way("basic", "ada"), BOX_SECRET, "ada")
        client = box.client()
        client.create("Sent")
        client.logout()
        _flow(app, MAIL % ", sent: {connection: box, folder: Sent}")
        run = _take(app)
        at_rest(app, 1)
        client = box.client()
        client.select("Sent")
        assert client.search(None, "ALL")[1] == [b"1"]
        client.logout()
        # as after a stop between the mail and its note: the same step is begun, and its end is not known
        flow = app.catalog.flow("out", 1)
        parameters = {"connection": "post", "sender": "o@x.example", "to": "ada@x.example", "sent": {"connection": "box", "folder": "Sent"}}
        call = Call(run, "", "out", 1, "sent", parameters, 1, 1, "", "", flow.steps[0].parameters, cut_off=True)
        assert mail.run(call, app.workshop).result["id"] == post.taken[0]["Message-ID"]
        assert len(post.taken) == 1
    finally:
        box.remove()


def test_a_room_gets_text_a_table_and_a_picture_once_in_its_thread(app: App) -> None:
    services = Services().start()
    try:
        app.connections.put("chat", services.url, Way("bearer"), TOKEN, "ada", "_matrix/client/v3/account/whoami")
        _flow(
            app,
            'post: {connection: chat, room: "#receipts:sandbox", thread: "$first", text: "Booked: ${item.name}", file: "${item.file}", '
            'name: plot.png, table: [{What: "<b>", Sum: 12.50}, {What: soil, Sum: 3}]}',
        )
        services.world.failing.set("lost", 0.6, 3)
        run = _take(app, "a.txt", b"\x89PNG 1")
        at_rest(app, 1)
        said = [each["content"] for each in services.world.chat.rooms["!receipts:sandbox"].events]
        assert [each["msgtype"] for each in said] == ["m.text", "m.image"]
        assert said[0]["body"] == "Booked: a.txt\nWhat: <b> · Sum: 12.50\nWhat: soil · Sum: 3"
        assert "<td>&lt;b&gt;</td>" in said[0]["formatted_body"]
        assert all(each["m.relates_to"]["event_id"] == "$first" for each in said)
        assert _result(app, run)["id"] == services.world.chat.rooms["!receipts:sandbox"].events[-1]["event_id"]
        _flow(app, 'post: {connection: chat, room: "#trustees:sandbox", text: x}')
        run = _take(app, "b.txt")
        eventually(lambda: run_state(app, run)[0] == "parked")
        assert "encrypted from end to end" in run_state(app, run)[1]
    finally:
        services.stop()


RECEIVER = """
metrikon: 1
name: calls
intakes: [{kind: webhook}]
steps: [{name: made, set: {caller: "${item.data.caller}"}}]
"""


def test_a_payload_is_signed_so_that_our_own_webhook_takes_it_once(running: Callable[..., Running]) -> None:
    service = running(fetch_private=True)
    service.client.put_flow("calls", RECEIVER)
    found = service.client.make_address("calls", "webhook")
    service.app.connections.put("calls", found["address"], Way("signed"), found["secret"], "ada")
    _flow(service.app, 'post: {connection: calls, payload: {caller: "${item.name}", sum: 12.50}}')
    _take(service.app, "Ada")
    at_rest(service.app, 2)
    with service.app.database.reading() as connection:
        rows = connection.exec_driver_sql("SELECT data FROM items WHERE flow = 'calls'").scalars().all()
    assert [json.loads(each) for each in rows] == [{"caller": "Ada", "sum": 12.5}]
    service.app.connections.put("calls", found["address"], Way("signed"), "whsec_" + "QUJD" * 8, "ada")
    run = _take(service.app, "Bo")
    eventually(lambda: run_state(service.app, run)[0] == "parked")
    assert "answered 401" in run_state(service.app, run)[1]


def test_a_name_that_leads_elsewhere_makes_no_path(app: App) -> None:
    _flow(app, 'save: {file: "${item.file}", to: "papers/${item.name}"}')
    run = _take(app, "a:b?.txt")
    at_rest(app, 1)
    assert _result(app, run)["place"] == str(app.home / "papers" / "a_b_.txt")
    hostile = Call(run, "", "out", 1, "sent", {"file": _file_of(app, run), "to": "papers/../../x.txt", "if_there": "keep"}, 1, 1, "", "")
    with pytest.raises(StepFailed, match="leads out of its folder"):
        save.run(hostile, app.workshop)


def _file_of(app: App, run: str) -> str:
    with app.database.reading() as connection:
        return str(connection.exec_driver_sql("SELECT sha256 FROM items").scalars().first())


@pytest.mark.parametrize("where", ["here", "server"])
def test_files_of_one_name(where: str, app: App, tmp_path: Path) -> None:
    server = DavServer(tmp_path / "dav")
    try:
        app.connections.put("files", server.url, Way("basic", DAV_USER), DAV_SECRET, "ada")
        root = app.home if where == "here" else server.root
        on = ", connection: files" if where == "server" else ""
        for number, (if_there, data, told) in enumerate(
            [("keep", b"one", "written"), ("keep", b"one", "there already"), ("number", b"two", "written"), ("overwrite", b"three", "written")]
        ):
            _flow(app, f'save: {{file: "${{item.file}}", to: "papers/2026/note.txt", if_there: {if_there}{on}}}')
            run = _take(app, f"{number}.txt", data)
            _until(app, run, "done")
            assert _result(app, run)["result"] == told
        assert {path.name: path.read_bytes() for path in (root / "papers" / "2026").iterdir()} == {"note.txt": b"three", "note 2.txt": b"two"}
        _flow(app, f'save: {{file: "${{item.file}}", to: "papers/2026/note.txt"{on}}}')
        run = _take(app, "other.txt", b"four")
        eventually(lambda: run_state(app, run)[0] == "parked")
        assert "holds something else" in run_state(app, run)[1]
    finally:
        server.end()


def test_a_place_that_flows_may_not_touch_is_not_written(app: App, tmp_path: Path) -> None:
    for to in (str(tmp_path / "outside.txt"), "metrikon.db"):
        _flow(app, f'save: {{file: "${{item.file}}", to: "{to}", if_there: overwrite}}')
        run = _take(app, f"{len(to)}.txt", b"x")
        _until(app, run, "parked")
        assert "never touch" in run_state(app, run)[1] or "may not touch" in run_state(app, run)[1]
    assert not (tmp_path / "outside.txt").exists()
    with pytest.raises(BadFlow, match="leads out of its folder"):
        _flow(app, 'save: {file: "${item.file}", to: "../x.txt"}')


def test_what_is_wrong_with_what_goes_out_is_told_when_the_flow_is_kept(app: App) -> None:
    for step, said in (
        ("mail: {connection: nothing, sender: o@x, to: a@x, subject: s, text: t}", "no connection 'nothing'"),
        ("post: {connection: nothing, text: t}", "Give a room of a chat, or a payload"),
        ("post: {connection: nothing, room: r}", "Say what is posted"),
    ):
        with pytest.raises(BadFlow, match=said):
            _flow(app, step)


@pytest.mark.parametrize(
    ("to", "value", "told"),
    [
        ("${item.name}", "ada@x.example, eve@evil.example", "more than one address"),
        ("${item.name}", "ada@x.example; eve@evil.example", "more than one address"),
        ('"${split(item.name, \\"&\\")}"', "ada@x.example&eve@evil.example", "one value that holds 2 addresses"),
        ('["${split(item.name, \\"&\\")}"]', "ada@x.example&eve@evil.example", "more than one address"),
    ],
)
def test_one_value_of_a_document_is_one_recipient_whatever_stands_in_it(app: App, post: Post, to: str, value: str, told: str) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    _flow(
        app, f"mail: {{connection: post, sender: o@x.example, to: {to if to[0] in chr(34) + '[' else chr(34) + to + chr(34)}, subject: s, text: t}}"
    )
    run = _take(app, value)
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert told in run_state(app, run)[1]
    assert not post.taken


def test_several_recipients_go_where_the_flow_lists_them(app: App, post: Post) -> None:
    app.connections.put("post", post.url, Way("basic", "ada"), SECRET, "ada")
    _flow(
        app,
        'mail: {connection: post, sender: o@x.example, to: ["${item.name}", bo@x.example], cc: "cy@x.example, di@x.example", subject: s, text: t}',
    )
    _until(app, _take(app, "ada@x.example"), "done")
    assert post.taken[0]["X-For"] == "ada@x.example, bo@x.example, cy@x.example, di@x.example"
