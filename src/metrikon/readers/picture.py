"""Pictures of documents: photos and scans, one page or many."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator

from PIL import Image, ImageOps, ImageSequence, UnidentifiedImageError

from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Document, Page
from metrikon.core.documents.tables import find_tables
from metrikon.ports.reader import Limits, Refused

LARGEST_SIDE = 2600  # pixels: larger pictures are made smaller before reading


class PictureReader:
    """Reads PNG, JPEG, TIFF (several pages) and WebP."""

    formats: tuple[str, ...] = ("png", "jpeg", "tiff", "webp")

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The document; raises `Refused` for broken and oversized pictures."""
        from metrikon.readers.ocr import read_picture

        pages, notes, name = [], [], "picture"
        for number, image in enumerate(_frames(data, limits.max_pixels), 1):
            if number > limits.max_pages:
                raise Refused("too-many-pages", f"The picture has more than {limits.max_pages} pages (setting max_pages).")
            words, turned, size = read_picture(image)
            if not words:
                notes.append(f"Page {number} holds no readable text.")
            ordered, lines = in_lines(words)
            pages.append(Page(number, size[0], size[1], "ocr", ordered, lines, turned))
        return Document(sha256, name, tuple(pages), find_tables(pages), tuple(notes))

    def picture(self, data: bytes, page: int, turned: float, dots: int) -> bytes:
        """One page as PNG, upright."""
        from metrikon.readers.turning import turn

        for number, image in enumerate(_frames(data, Limits().max_pixels), 1):
            if number == page:
                shown = turn(image, turned)
                shown.thumbnail((dots * 12, dots * 12))
                out = io.BytesIO()
                shown.quantize(128).save(out, "PNG")
                return out.getvalue()
        raise Refused("no-page", f"The picture has no page {page}.")


def _frames(data: bytes, most: int) -> Iterator[Image.Image]:
    """The pages of a picture file, upright by EXIF, at a size fit for reading."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with Image.open(io.BytesIO(data)) as opened:
                if opened.width * opened.height > most:
                    size = f"{opened.width} x {opened.height}"
                    raise Refused("too-large", f"The picture has {size} pixels; the limit is {most} in all (setting max_pixels).")
                for frame in ImageSequence.Iterator(opened):
                    image = ImageOps.exif_transpose(frame.convert("RGB")) or frame
                    image.thumbnail((LARGEST_SIDE, LARGEST_SIDE), Image.Resampling.LANCZOS)
                    yield image
        except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
            raise Refused("broken", "The picture cannot be opened. It is broken or cut off; ask for a new one.") from error
