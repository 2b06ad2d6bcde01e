"""Tokens of programs."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.service.asked import IdPath, TokenBody
from metrikon.service.auth import add_token
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.views import (
    TokenList,
    TokenMade,
    TokenView,
)
from metrikon.store import people


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("tokens", __name__, abp_tags=[Tag(name="people and tokens")])

    @api.get("/api/tokens", responses={200: TokenList}, operation_id="listTokens")
    def list_tokens() -> Response:
        """Tokens, without their secrets."""
        with app.database.reading() as connection:
            rows: list[dict[str, Any]] = people.all_tokens(connection)
        return reply(TokenList(items=[TokenView(**row) for row in rows]))

    @api.post("/api/tokens", responses={201: TokenMade}, operation_id="addToken")
    def make_token(body: TokenBody) -> Response:
        """Make a token. Its secret is in this answer and nowhere else."""
        token_id, secret = add_token(app, body.name, body.role, body.days)
        with app.database.reading() as connection:
            row = next(each for each in people.all_tokens(connection) if each["id"] == token_id)
        return reply(TokenMade.model_validate({**row, "secret": secret}), 201)

    @api.delete("/api/tokens/<string:id>", responses={204: None}, operation_id="dropToken")
    def drop_token(path: IdPath) -> Response:
        """Forget a token: it opens nothing any more."""
        if not app.database.write(lambda connection: people.drop_token(connection, path.id)):
            raise Problem(404, "not-there", f"There is no token {path.id}.")
        return Response(status=204)

    return api
