"""The models of a service: the pattern reader, the one in the settings, and those in the file of models."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from metrikon.app.settings import Settings
from metrikon.engine.budget import SpendLimits
from metrikon.models.pattern import PATTERN, PatternModel
from metrikon.models.specs import ModelSpec, checked, specs_in
from metrikon.ports.model import Model

FILE = "models.yaml"


@dataclass(frozen=True)
class Models:
    """Models by name, what holds for each, and the name of the default."""

    by_name: dict[str, Model]
    specs: dict[str, ModelSpec]
    default: str

    def close(self) -> None:
        """Let go of connections."""
        for model in self.by_name.values():
            closing = getattr(model, "close", None)
            if closing:
                closing()


def models_of(settings: Settings) -> Models:
    """The models that settings name: the first of them is the default. Raises `BadModels`."""
    place = Path(settings.models_file) if settings.models_file else settings.home / FILE
    listed = specs_in(place) if settings.models_file or place.is_file() else []
    specs = [*([_set(settings)] if settings.model_url else []), *listed]
    checked(specs, str(place))
    made: dict[str, Model] = {PATTERN: PatternModel()}
    for each in specs:
        made[each.name] = each.made(settings.model_key if settings.model_url and each is specs[0] else "")
    return Models(made, {each.name: each for each in specs}, specs[0].name if specs else PATTERN)


def limits_on_spending(settings: Settings) -> SpendLimits:
    """What may be spent."""
    return SpendLimits(settings.spend_run, settings.spend_flow, settings.spend_day)


def _set(settings: Settings) -> ModelSpec:
    return ModelSpec(
        name=settings.model_label or settings.model_name or "model",
        url=settings.model_url,
        model=settings.model_name,
        context=settings.model_context,
        answer_tokens=settings.model_answer_tokens,
        price_in=settings.price_in,
        price_out=settings.price_out,
        calls_at_once=settings.model_calls_at_once,
        calls_a_minute=settings.calls_a_minute,
        tokens_a_minute=settings.tokens_a_minute,
        timeout=settings.model_timeout,
        chances=settings.model_chances,
        stream=settings.model_stream,
        pictures=settings.model_pictures,
        picture_tokens=settings.model_picture_tokens,
    )
