"""How far a scanned page is turned, and turning it upright."""

from __future__ import annotations

import numpy as np
from PIL import Image

WIDEST = 5.0  # degrees looked at on either side
SMALL = 700  # pixels of width at which the angle is looked for


def found_turn(image: Image.Image) -> float:
    """Degrees to turn the picture clockwise so that its lines lie level (0 when it is level).

    Lines of print give the sharpest row profile when they lie level: the angle with the largest
    sum of squared differences of neighbouring rows is taken (projection profile method).
    """
    ratio = SMALL / image.width
    small = image.convert("L").resize((SMALL, max(1, int(image.height * ratio))), Image.Resampling.BILINEAR)
    pixels = 255.0 - np.asarray(small, dtype=np.float32)
    pixels = np.clip(pixels - np.percentile(pixels, 75), 0, None)
    ink = Image.fromarray(pixels.astype(np.float32))
    best = _best(ink, np.arange(-WIDEST, WIDEST + 0.1, 0.5))
    best = _best(ink, np.arange(best - 0.4, best + 0.41, 0.1))
    return 0.0 if abs(best) < 0.15 else round(float(best), 2)


def _best(ink: Image.Image, angles: np.ndarray) -> float:
    scores = [_sharpness(ink, float(angle)) for angle in angles]
    return float(angles[int(np.argmax(scores))])


def _sharpness(ink: Image.Image, angle: float) -> float:
    rows = np.asarray(ink.rotate(-angle, Image.Resampling.NEAREST, fillcolor=0)).sum(axis=1)
    return float(np.square(np.diff(rows)).sum())


def turn(image: Image.Image, degrees: float) -> Image.Image:
    """The picture turned clockwise by some degrees, the corners filled with paper."""
    if not degrees:
        return image
    return image.rotate(-degrees, Image.Resampling.BICUBIC, expand=True, fillcolor="white")
