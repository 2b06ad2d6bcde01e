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

DOUBTFUL = 0.9  # below this certainty the page may stand on its head
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
    words, size = _read(image, turned)
    tries = (90, 270) if _on_its_side(words) else (180,) if _certainty(words) < DOUBTFUL else ()
    if not tries:
        return words, turned, size
    found = [] if _on_its_side(words) else [(words, turned, size)]
    for quarter in tries:
        angle = quarter + (found_turn(turn(image, quarter)) if quarter != 180 else turned)
        found.append(_try(image, angle))
    return max(found, key=lambda each: _certainty(each[0]))


def _try(image: Image.Image, angle: float) -> tuple[list[Word], float, tuple[int, int]]:
    words, size = _read(image, angle)
    return words, angle, size


def _on_its_side(words: list[Word]) -> bool:
    """Whether most words stand upright on their end: then the page lies on its side."""
    long = [word for word in words if len(word.text) >= 3]
    return len(long) >= 3 and sum((w.y1 - w.y0) > 1.2 * (w.x1 - w.x0) for w in long) * 2 > len(long)


def _certainty(words: list[Word]) -> float:
    """How surely words were read, longer ones counting more; 0 without any."""
    letters = sum(len(word.text) for word in words)
    return sum(len(word.text) * word.sure for word in words) / letters if letters else 0.0


def _read(image: Image.Image, turned: float) -> tuple[list[Word], tuple[int, int]]:
    upright = turn(image, turned)
    scale = max(1.0, SHORT_SIDE / min(upright.size))
    shown = upright.resize((int(upright.width * scale), int(upright.height * scale))) if scale > 1 else upright
    pixels = np.asarray(shown.convert("RGB"))[:, :, ::-1]
    result = _engine()(np.ascontiguousarray(pixels), return_word_box=True)
    lines = zip(result.txts or (), result.scores or (), result.word_results or (), strict=False)
    words = [word for text, sure, pieces in lines for word in _line_words(str(text), float(sure), pieces, scale)]
    return words, upright.size


def _line_words(text: str, sure: float, pieces: Any, scale: float) -> list[Word]:
    """Words of one line. The engine boxes pieces; the spaces of its line of text say which belong together.

    The certainty of a word is the mean of its own and its line's.
    """
    parts = [(clean(str(piece)), float(mark), polygon) for piece, mark, polygon in pieces or () if polygon is not None and clean(str(piece))]
    wanted = clean(text).split()
    if "".join(wanted) != "".join(part[0] for part in parts).replace(" ", ""):
        wanted = [part[0] for part in parts]
    found: list[Word] = []
    at = 0
    for token in wanted:
        group: list[Any] = []
        while at < len(parts) and len("".join(part[0] for part in group)) < len(token):
            group.append(parts[at])
            at += 1
        if group:
            found.append(_word("".join(part[0] for part in group), sure, group, scale))
    return found


def _word(text: str, sure: float, group: list[Any], scale: float) -> Word:
    xs = [float(point[0]) / scale for _, _, polygon in group for point in polygon]
    ys = [float(point[1]) / scale for _, _, polygon in group for point in polygon]
    least = min(mark for _, mark, _ in group)
    return Word(text, min(xs), min(ys), max(xs), max(ys), round((least + sure) / 2, 3))
