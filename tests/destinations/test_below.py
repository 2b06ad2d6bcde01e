"""Records that stand in a list below a path, such as the cards of a board: they are found, set and taken away there."""

from __future__ import annotations

import json
import re
from typing import Any

import pytest

from metrikon.connections.fetching import Fetched, Wanted
from metrikon.core.services.description import description
from metrikon.core.services.notes import Notes, wrong
from metrikon.destinations.service import ServiceDestination
from metrikon.ports.destination import Partly, Row

BOARD = {"name": "board", "in": "path", "required": True, "schema": {"type": "string"}}
CARD = {"name": "card", "in": "path", "required": True, "schema": {"type": "string"}}
BODY = {"content": {"application/json": {"schema": {"type": "object", "properties": {"title": {"type": "string"}, "done": {"type": "boolean"}}}}}}
DESCRIPTION = {
    "openapi": "3.0.3",
    "info": {"title": "Boards", "version": "1"},
    "paths": {
        "/boards/{board}/cards": {
            "get": {"operationId": "listCards", "parameters": [BOARD], "responses": {"200": {"description": "ok"}}},
            "post": {"operationId": "makeCard", "parameters": [BOARD], "requestBody": BODY, "responses": {"201": {"description": "ok"}}},
        },
        "/boards/{board}/cards/{card}": {
            "patch": {"operationId": "setCard", "parameters": [BOARD, CARD], "requestBody": BODY, "responses": {"200": {"description": "ok"}}},
            "delete": {"operationId": "removeCard", "parameters": [BOARD, CARD], "responses": {"204": {"description": "ok"}}},
        },
    },
}
NOTES = Notes.model_validate(
    {
        "records": {
            "cards": {
                "create": "makeCard",
                "find": {"operation": "listCards", "by": {"title": ""}},
                "set": {"operation": "setCard", "id": "card"},
                "remove": {"operation": "removeCard", "id": "card"},
                "found_within": 0,
            }
        }
    }
)


class Boards:
    """A service of boards with cards, behind the transport."""

    def __init__(self) -> None:
        self.cards: dict[str, dict[str, dict[str, Any]]] = {"beds": {}, "paths": {}}

    def described(self, connection: str) -> Any:
        return description(DESCRIPTION), NOTES

    def fetch(self, wanted: Wanted) -> Fetched:
        match = re.fullmatch(r"/?boards/(\w+)/cards(?:/(\w+))?", wanted.url.partition("?")[0])
        assert match is not None, wanted.url
        cards, card = self.cards[match[1]], match[2]
        given = json.loads(wanted.body) if wanted.body else {}
        answer: Any = list(cards.values())
        if wanted.method == "POST":
            answer = cards[str(len(cards) + 1)] = {"id": str(len(cards) + 1), **given}
        elif wanted.method == "PATCH":
            answer = cards[card] = {**cards[card], **given}
        elif wanted.method == "DELETE":
            answer = cards.pop(card)
        return Fetched(wanted.url, 200, "application/json", "", json.dumps(answer).encode(), {})


def test_a_card_is_found_below_its_board_set_there_and_taken_away_again() -> None:
    boards = Boards()
    cards = ServiceDestination(boards, "boards", "cards", ("title",))
    water = Row("k", {"board": "beds", "title": "Water ferns", "done": False})
    assert cards.write([water])[0].result == "written"
    assert cards.write([water])[0].result == "there already"
    assert cards.write([Row("k", {"board": "paths", "title": "Water ferns"})])[0].result == "written"  # on another board it is another one
    assert cards.write([Row("k", {"board": "beds", "title": "Water ferns", "done": True}, sets=True)])[0].result == "updated"
    assert boards.cards == {
        "beds": {"1": {"id": "1", "title": "Water ferns", "done": True}},
        "paths": {"1": {"id": "1", "title": "Water ferns"}},
    }
    assert [each["done"] for each in cards.find({"board": "beds", "title": "Water ferns"}, 5)] == [True]
    taken = cards.write([Row("k", {"board": "beds", "title": "Water ferns", "done": True}, removes=True)])[0]
    assert taken.result == "removed"
    assert boards.cards["beds"] == {}


def test_a_card_without_its_board_is_not_looked_for_anywhere() -> None:
    with pytest.raises(Partly, match="wants board as well"):
        ServiceDestination(Boards(), "boards", "cards", ("title",)).write([Row("k", {"title": "Water ferns"})])


def test_a_list_below_something_that_a_record_does_not_have_is_told_when_it_is_noted() -> None:
    other = json.loads(json.dumps(DESCRIPTION).replace('"/boards/{board}/cards": {"get"', '"/lists/{list}/cards": {"get"'))
    other["paths"]["/lists/{list}/cards"]["get"]["parameters"][0]["name"] = "list"
    other["paths"]["/boards/{board}/cards"] = {"post": other["paths"]["/lists/{list}/cards"].pop("post")}
    other["paths"]["/boards/{board}/cards"]["post"]["parameters"] = [BOARD]
    told = dict(wrong(NOTES, description(other)))
    assert "The path of listCards takes 'list'" in told["records/cards/find/operation"]
