"""A clean page made into what people send: a scan, a photo. The same page gives the same bytes."""

from __future__ import annotations

import io
import time

import numpy as np
from PIL import Image, ImageFilter

from metrikon.readers.pdf import PdfReader

_WHEN = time.gmtime(1_767_225_600)


def _page(data: bytes, dots: int) -> Image.Image:
    return Image.open(io.BytesIO(PdfReader().picture(data, 1, 0.0, dots))).convert("RGB")


def scanned(data: bytes, turned: float = 1.3, seed: int = 5) -> bytes:
    """A PDF that holds the first page as a picture only: turned by some degrees, grey, noisy."""
    image = _page(data, 170).convert("L").rotate(turned, Image.Resampling.BICUBIC, expand=False, fillcolor=250)
    dice = np.random.default_rng(seed)
    pixels = np.asarray(image, dtype=np.float32) * 0.96 + dice.normal(0, 9, (image.height, image.width))
    specks = dice.random((image.height, image.width)) > 0.9994
    pixels[specks] = 60
    out = io.BytesIO()
    made = Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8))
    made.save(out, "PDF", resolution=170, quality=72, title="Scan", producer="", creationDate=_WHEN, modDate=_WHEN)
    return out.getvalue()


def photographed(data: bytes, seed: int = 9) -> bytes:
    """A JPEG of the first page lying on a table: slanted, unevenly lit, a little soft."""
    page = _page(data, 190)
    wide, tall = page.size
    desk = Image.new("RGB", (wide + 160, tall + 200), (104, 84, 66))
    desk.paste(page, (80, 100))
    slant = [0, 0, 30, desk.height, desk.width - 14, desk.height - 10, desk.width, 18]
    shot = desk.transform(desk.size, Image.Transform.QUAD, slant, Image.Resampling.BICUBIC, fillcolor=(104, 84, 66))
    across, down = np.meshgrid(np.linspace(0, 1, shot.width), np.linspace(0, 1, shot.height))
    light = 1.03 - 0.22 * across * down - 0.1 * (1 - across)
    grain = np.random.default_rng(seed).normal(0, 4, (shot.height, shot.width, 1))
    pixels = np.asarray(shot, dtype=np.float32) * light[:, :, None] + grain
    made = Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)).filter(ImageFilter.GaussianBlur(0.6))
    out = io.BytesIO()
    made.save(out, "JPEG", quality=80)
    return out.getvalue()
