"""Record and replay: answers kept in a file the first time, given again ever after. For tests and trials."""

from __future__ import annotations

import hashlib
from pathlib import Path

from metrikon.core.values.exact import dumps_sorted, loads
from metrikon.ports.model import Model, ModelAnswer, ModelRefused, ModelRequest, Usage


class ReplayModel:
    """Gives kept answers; asks `source` for others and keeps them, or refuses when there is none."""

    def __init__(self, path: Path, source: Model | None = None) -> None:
        self.path = path
        self.source = source
        self.name = f"replay of {source.name}" if source else "replay"
        self.room = source.room if source else 24_000
        self.sees = source.sees if source else 0
        self._kept: dict[str, dict[str, object]] = loads(path.read_bytes()) if path.exists() else {}

    def answer(self, request: ModelRequest) -> ModelAnswer:
        key = hashlib.sha256(dumps_sorted(request.messages)).hexdigest()
        kept = self._kept.get(key)
        if kept is None:
            if self.source is None:
                raise ModelRefused(f"{self.path} holds no answer for this request. Record it anew with a model.")
            answer = self.source.answer(request)
            kept = {"text": answer.text, "input_tokens": answer.usage.input_tokens, "output_tokens": answer.usage.output_tokens}
            self._kept[key] = kept
            self.path.write_bytes(dumps_sorted(self._kept))
        return ModelAnswer(str(kept["text"]), Usage(int(str(kept["input_tokens"])), int(str(kept["output_tokens"])), 1))
