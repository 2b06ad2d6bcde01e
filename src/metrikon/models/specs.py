"""Which models there are: the one in the settings, and those in a file of their own (YAML, a list).

- name: small            # under which flows and the console know it
  url: http://127.0.0.1:8091/v1
  model: small-1.5b      # its name at that server
  key_env: SMALL_KEY     # the environment variable that holds its key
  price_in: 0.20         # for a million tokens read, in the currency of the setting price_currency
  price_out: 0.80
  fallback: [large]      # asked in this order when it does not answer
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from metrikon.models.chat import ChatModel, ChatSettings


class BadModels(ValueError):
    """A file of models that cannot be used; the message says what is wrong where."""


class ModelSpec(BaseModel):
    """One model: where it is, what it may be asked, what it costs."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(..., min_length=1, max_length=60)
    url: str
    model: str = ""
    key_env: str = Field("", description="Environment variable that holds the key.")
    context: int = Field(8192, ge=1024, description="Tokens of a request and its answer together.")
    answer_tokens: int = Field(2500, ge=100, description="Most tokens of an answer.")
    price_in: Decimal = Field(Decimal(0), ge=0, description="Price of a million tokens read.")
    price_out: Decimal = Field(Decimal(0), ge=0, description="Price of a million tokens written.")
    calls_at_once: int = Field(32, ge=1)
    calls_a_minute: int = Field(0, ge=0, description="0: no limit.")
    tokens_a_minute: int = Field(0, ge=0, description="0: no limit.")
    timeout: float = Field(120.0, gt=0)
    chances: bool = Field(True, description="Ask for the probabilities of tokens, by which doubtful values are told.")
    stream: bool = Field(True, description="Read answers as they are written, and stop one that goes round in a loop.")
    pictures: bool = Field(False, description="Show it the pages of scans and photos as pictures, besides their words.")
    picture_tokens: int = Field(1600, ge=1, description="Tokens that a picture counts for, about.")
    fallback: tuple[str, ...] = ()

    def price(self, input_tokens: int, output_tokens: int) -> Decimal:
        """What so many tokens cost."""
        return (input_tokens * self.price_in + output_tokens * self.price_out) / 1_000_000

    def made(self, key: str = "") -> ChatModel:
        """The model itself."""
        settings = ChatSettings(
            self.url,
            self.model or self.name,
            key or (os.environ.get(self.key_env, "") if self.key_env else ""),
            timeout=self.timeout,
            most_tokens=self.answer_tokens,
            at_once=self.calls_at_once,
            context=self.context,
            chances=self.chances,
            stream=self.stream,
            pictures=self.pictures,
            picture_tokens=self.picture_tokens,
        )
        return ChatModel(settings, self.name)


def specs_in(path: Path) -> list[ModelSpec]:
    """The models in a file. Raises `BadModels`."""
    try:
        given = YAML(typ="safe", pure=True).load(path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError, YAMLError) as error:
        raise BadModels(f"{path} cannot be read: {error}") from error
    if not isinstance(given, list):
        raise BadModels(f"{path} must hold a list of models.")
    return checked([_spec(path, number, each) for number, each in enumerate(given, 1)], str(path))


def _spec(path: Path, number: int, given: Any) -> ModelSpec:
    try:
        values = {name: str(value) if isinstance(value, float) else value for name, value in given.items()} if isinstance(given, Mapping) else given
        return ModelSpec.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        place = "/".join(str(part) for part in first["loc"])
        raise BadModels(f"{path}, model {number}, {place or 'entry'}: {first['msg']}.") from error


def checked(specs: list[ModelSpec], where: str) -> list[ModelSpec]:
    """The same models, when their names are unique and their fallbacks are there. Raises `BadModels`."""
    names = [each.name for each in specs]
    for each in specs:
        if names.count(each.name) > 1 or each.name == "pattern":
            raise BadModels(f"{where}: the name {each.name!r} is given twice or is taken by the pattern reader.")
        unknown = [name for name in each.fallback if name not in names]
        if unknown:
            raise BadModels(f"{where}: the fallback {unknown[0]!r} of {each.name!r} is none of the models. Known: {', '.join(names)}.")
    return specs
