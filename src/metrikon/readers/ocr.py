"""Words from pictures, by an OCR engine whose models come with its package."""

from __future__ import annotations

import logging
from functools import cache
from typing import Any

import numpy as np
from PIL import Image

from metrikon.core.documents.model import Word
from metrikon.core.values.text import clean
from metrikon.readers.turning import found_turn, turn

SHORT_SIDE = 900  # pixels: smaller pictures are enlarged before reading


@cache
def _engine() -> Any:
    logging.getLogger("RapidOCR").setLevel(logging.ERROR)
    from rapidocr import RapidOCR

    # the classifier of line direction turns short cells round ("9" becomes "6"): left out
    return RapidOCR(params={"Global.use_cls": False, "Global.log_level": "error", "Global.max_side_len": 4000})


def read_picture(image: Image.Image) -> tuple[list[Word], float, tuple[int, int]]:
    """Words with boxes in pixels of the upright picture; degrees it was turned; its upright size."""
    turned = found_turn(image)
    upright = turn(image, turned)
    scale = max(1.0, SHORT_SIDE / min(upright.size))
    shown = upright.resize((int(upright.width * scale), int(upright.height * scale))) if scale > 1 else upright
    pixels = np.asarray(shown.convert("RGB"))[:, :, ::-1]
    result = _engine()(np.ascontiguousarray(pixels), return_word_box=True)
    words = [word for line in (result.word_results or ()) for word in _line_words(line, scale)]
    return words, turned, upright.size


def _line_words(line: Any, scale: float) -> list[Word]:
    """Words of one line found by the engine: its word boxes are joined where no space is between."""
    found: list[Word] = []
    for text, sure, polygon in line:
        cleaned = clean(str(text))
        if not cleaned or polygon is None:
            continue
        xs = [float(point[0]) / scale for point in polygon]
        ys = [float(point[1]) / scale for point in polygon]
        word = Word(cleaned, min(xs), min(ys), max(xs), max(ys), round(float(sure), 3))
        if found and _touches(found[-1], word):
            before = found.pop()
            word = Word(
                before.text + word.text,
                before.x0,
                min(before.y0, word.y0),
                word.x1,
                max(before.y1, word.y1),
                min(before.sure, word.sure),
            )
        found.append(word)
    return found


def _touches(before: Word, word: Word) -> bool:
    return word.x0 - before.x1 < 0.12 * (word.y1 - word.y0)
