"""Equal content under another identity: held, let go or taken, as the intake says; what is held is settled at once."""

from __future__ import annotations

from collections.abc import Callable
from io import StringIO

import pytest

from metrikon.cli import main
from metrikon.client import ClientError
from metrikon.intakes.chat import KIND as CHAT
from metrikon.intakes.chat import Chat
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: terms
intakes: [{kind: upload, REPEATS}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {Name: "${item.name}"}}}
"""


def put(service: Running, repeats: str = "") -> None:
    service.client.put_flow("terms", FLOW.replace(", REPEATS", f", repeats: {repeats}" if repeats else ""))


def command(service: Running, *words: str) -> str:
    out = StringIO()
    assert main([*words, "--url", service.url, "--token", service.token], out, out) == 0
    return out.getvalue()


def state(service: Running, run: str) -> str:
    return str(service.client.run(run).state)


def sent(service: Running, name: str) -> str:
    return str(service.client.upload("terms", b"the same terms", name=name).run_id)


@pytest.mark.parametrize(("repeats", "then"), [("", "held"), ("hold", "held"), ("let go", "stopped"), ("take", "done")])
def test_what_comes_twice_is_dealt_with_as_the_intake_says(running: Callable[..., Running], repeats: str, then: str) -> None:
    service = running()
    put(service, repeats)
    first, second = sent(service, "first.txt"), sent(service, "second.txt")
    assert eventually(lambda: state(service, first) == "done")
    assert eventually(lambda: state(service, second) == then)
    assert ("Its content is the same as that of first.txt" in service.client.run(second).reason) is (then != "done")
    if then == "stopped":
        again = service.client.run_again_from(second, "")
        assert eventually(lambda: state(service, again) == "done")


@pytest.mark.parametrize(("word", "then", "told"), [("--take", "done", "3 likely repeats of terms taken."), ("--let-go", "stopped", "let go.")])
def test_all_that_are_held_are_settled_at_once(running: Callable[..., Running], word: str, then: str, told: str) -> None:
    service = running()
    put(service)
    runs = [sent(service, f"{number}.txt") for number in range(4)]
    assert eventually(lambda: [state(service, each) for each in runs] == ["done", "held", "held", "held"])
    paused = service.client.upload("terms", b"others", name="others.txt").run_id
    assert eventually(lambda: state(service, paused) == "done")

    assert "3 likely repeats of terms are held. Settle them with --take or --let-go." in command(service, "runs", "repeats", "terms")
    assert "Settle them with --yes." in command(service, "runs", "repeats", "terms", word)
    with pytest.raises(ClientError, match="There are 3 likely repeats now, and not 2"):
        service.client.settle_repeats("terms", "take", 2)
    assert told in command(service, "runs", "repeats", "terms", word, "--yes")
    assert eventually(lambda: [state(service, each) for each in runs] == ["done", then, then, then])
    assert "No likely repeat of terms is held." in command(service, "runs", "repeats", "terms")


def test_a_text_said_twice_in_a_chat_is_meant_twice_and_a_picture_is_a_likely_repeat() -> None:
    said = Chat(connection="garden", rooms=["#receipts:garden.example"])
    assert CHAT.repeats(said, {"kind": "text"}) == "take"
    assert CHAT.repeats(said, {"kind": "picture"}) == "hold"
    assert CHAT.repeats(said.model_copy(update={"repeats": "let go"}), {"kind": "text"}) == "let go"
