"""Whether a picture can be read at all, before anything is paid for: size, light, contrast, sharpness, glare.

The measures, on the picture in grey (0 to 255):

- size: pixels of the shorter side;
- contrast: the 90th less the 2nd percentile, within the tenth of the tiles that vary most;
- sharpness: in those tiles, the share of the contrast that is crossed from one pixel to the next
  (the 99th percentile of the gradient over the contrast); print in focus crosses most of it in a
  pixel or two, blurred print in many;
- glare: the share of the picture that is burnt out while the rest of the paper is clearly darker.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image

TILE = 32  # pixels
SMALLEST, SMALL = 260, 480  # pixels of the shorter side: below the first unusable, below the second doubtful
FLAT, FAINT = 14.0, 30.0  # grey levels of contrast
BLURRED, SOFT = 0.15, 0.25  # share of the contrast a pixel
DARK = 14.0  # grey level of the brightest tenth
BURNT = 250


@dataclass(frozen=True)
class Verdict:
    """`usable` is "good", "doubtful" or "unusable"; `reason` says why in words; the measures are kept."""

    usable: str
    reason: str
    side: int
    contrast: float
    sharpness: float
    glare: float


def verdict(image: Image.Image) -> Verdict:
    """What a picture is worth for reading."""
    grey = np.asarray(image.convert("L"), dtype=np.float32)
    side = int(min(grey.shape))
    contrast, sharpness = _print(grey)
    glare = _glare(grey)
    bright = float(np.percentile(grey, 90))

    def say(usable: str, reason: str) -> Verdict:
        return Verdict(usable, reason, side, round(contrast, 1), round(sharpness, 3), round(glare, 3))

    if side < SMALLEST:
        return say("unusable", f"it is only {side} pixels wide; at least {SMALLEST} are needed, better 1000")
    if bright < DARK:
        return say("unusable", "it is too dark")
    if contrast < FLAT:
        return say("unusable", "there is hardly any contrast: nothing stands out from the ground")
    if sharpness < BLURRED:
        return say("unusable", "it is too blurred")
    if glare > 0.6:
        return say("unusable", f"light is reflected over {glare:.0%} of it")
    if sharpness < SOFT:
        return say("doubtful", "it is a little blurred")
    if contrast < FAINT:
        return say("doubtful", "the print is faint")
    if glare > 0.06:
        return say("doubtful", f"light is reflected over {glare:.0%} of it")
    return say("doubtful", f"it is only {side} pixels wide") if side < SMALL else say("good", "")


def _print(grey: NDArray[np.float32]) -> tuple[float, float]:
    """Contrast and sharpness where the print is: in the tiles that vary most."""
    high, wide = (grey.shape[0] // TILE) * TILE, (grey.shape[1] // TILE) * TILE
    if not high or not wide:
        return 0.0, 0.0
    tiles = grey[:high, :wide].reshape(high // TILE, TILE, wide // TILE, TILE).swapaxes(1, 2).reshape(-1, TILE, TILE)
    spread = tiles.std(axis=(1, 2))
    chosen = tiles[np.argsort(spread)[-max(4, len(tiles) // 10) :]]
    low, top = np.percentile(chosen, 2, axis=(1, 2)), np.percentile(chosen, 90, axis=(1, 2))
    contrast = np.median(top - low)
    across = np.abs(np.diff(chosen, axis=2)).reshape(len(chosen), -1)
    down = np.abs(np.diff(chosen, axis=1)).reshape(len(chosen), -1)
    steep = np.percentile(np.concatenate([across, down], axis=1), 98, axis=1)
    return float(contrast), float(np.median(steep / np.maximum(top - low, 1.0)))


def _glare(grey: NDArray[np.float32]) -> float:
    """The share that is burnt out, when the paper beside it is clearly darker."""
    burnt = grey >= BURNT
    share = float(burnt.mean())
    rest = grey[~burnt]
    if share < 0.02 or rest.size < 0.15 * grey.size:
        return 0.0  # the paper itself is white, as on a clean scan
    return share if float(np.percentile(rest, 75)) < 245 else 0.0
