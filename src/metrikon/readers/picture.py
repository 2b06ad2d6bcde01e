"""Pictures of documents: photos and scans, one page or many."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator
from dataclasses import dataclass

from PIL import Image, ImageOps, ImageSequence, UnidentifiedImageError

from metrikon.core.documents.carried import carried_sums
from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Document, Page, Word
from metrikon.core.documents.order import in_order
from metrikon.core.documents.tables import find_tables
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.usable import verdict

LARGEST_SIDE = 2600  # pixels: larger pictures are made smaller before reading


class PictureReader:
    """Reads PNG, JPEG, TIFF (several pages) and WebP."""

    formats: tuple[str, ...] = ("png", "jpeg", "tiff", "webp")

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """The document; raises `Refused` for broken and oversized pictures."""
        count = _count(data)
        if count > limits.max_pages:
            raise Refused("too-many-pages", f"The picture has {count} pages; the limit is {limits.max_pages} (setting max_pages).")
        pages: list[Page] = []
        notes: list[str] = []
        for number, image in enumerate(_frames(data, limits.max_pixels), 1):
            found = read_judged(image, number, count == 1)
            notes += found.notes
            ordered, lines = in_lines(found.words)
            pages.append(in_order(Page(number, found.size[0], found.size[1], "ocr", ordered, lines, found.turned)))
        return Document(sha256, "picture", tuple(pages), find_tables(pages), tuple(notes), tuple(carried_sums(pages)))

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


@dataclass(frozen=True)
class PictureRead:
    """What reading made of one picture: words in pixels of the upright picture, and what people should know."""

    words: list[Word]
    turned: float
    size: tuple[int, int]
    notes: list[str]


def read_judged(image: Image.Image, number: int, alone: bool) -> PictureRead:
    """The words of a picture, when it is fit for reading. A page among others that is not is left empty and told of.

    Raises `Refused` when the only picture cannot be read.
    """
    found = verdict(image)
    what = "the picture" if alone else f"page {number}"
    if found.usable == "unusable":
        if alone:
            raise Refused("unusable", f"It was not read, because {what} is not fit for it: {found.reason}. Take it again.")
        return PictureRead([], 0.0, image.size, [f"Page {number} is empty or was not read: {found.reason}."])
    from metrikon.readers.ocr import read_picture  # the engine is heavy: loaded for scans only

    words, turned, size = read_picture(image)
    notes = [f"{what[0].upper()}{what[1:]} is hard to read: {found.reason}. Look at the values with care."] if found.usable == "doubtful" else []
    return PictureRead(words, turned, size, notes if words else [*notes, f"Page {number} holds no readable text."])


def _count(data: bytes) -> int:
    """How many pages a picture file has; 1 when that cannot be told yet."""
    try:
        with Image.open(io.BytesIO(data)) as opened:
            return int(getattr(opened, "n_frames", 1))
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError):
        return 1


def _frames(data: bytes, most: int) -> Iterator[Image.Image]:
    """The pages of a picture file, upright by EXIF, at a size fit for reading."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with Image.open(io.BytesIO(data)) as opened:
                for frame in ImageSequence.Iterator(opened):
                    if frame.width * frame.height > most:  # told before its pixels are looked at
                        size = f"{frame.width} x {frame.height}"
                        raise Refused("too-large", f"The picture has {size} pixels; the limit is {most} in all (setting max_pixels).")
                    image = ImageOps.exif_transpose(frame.convert("RGB")) or frame
                    image.thumbnail((LARGEST_SIDE, LARGEST_SIDE), Image.Resampling.LANCZOS)
                    yield image
        except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
            raise Refused("broken", "The picture cannot be opened. It is broken or cut off; ask for a new one.") from error
