"""Text of a PDF page that a person does not see: invisible, white on white, too small, under a picture."""

from __future__ import annotations

import ctypes
from typing import Any

import pypdfium2.raw as raw

SMALLEST = 2.0  # points: smaller letters are not read by people
WHITE = 246  # of 255, in all three colours
MOST_OBJECTS = 20_000
DEEPEST = 3  # groups within groups that are looked into for pictures

# the same functions of the library, with plain addresses for objects: making pointers of them takes longer than the calls
_AT, _NUMBER = ctypes.c_void_p, ctypes.c_int
_text_object = ctypes.CFUNCTYPE(_AT, _AT, _NUMBER)(ctypes.cast(raw.FPDFText_GetTextObject, _AT).value or 0)
_object_at = ctypes.CFUNCTYPE(_AT, _AT, _NUMBER)(ctypes.cast(raw.FPDFPage_GetObject, _AT).value or 0)
_inner_at = ctypes.CFUNCTYPE(_AT, _AT, ctypes.c_ulong)(ctypes.cast(raw.FPDFFormObj_GetObject, _AT).value or 0)
_inner_count = ctypes.CFUNCTYPE(_NUMBER, _AT)(ctypes.cast(raw.FPDFFormObj_CountObjects, _AT).value or 0)
_kind_of = ctypes.CFUNCTYPE(_NUMBER, _AT)(ctypes.cast(raw.FPDFPageObj_GetType, _AT).value or 0)

Rect = tuple[float, float, float, float]  # left, bottom, right, top in PDF space


class Seen:
    """Tells for the characters of one page whether they are seen, and if not, why."""

    def __init__(self, page: Any, handle: Any) -> None:
        self._page = page
        self._handle = handle
        self._text = ctypes.cast(handle, _AT).value
        self._colour = [ctypes.c_uint() for _ in range(4)]
        self._by_reference = [ctypes.byref(each) for each in self._colour]
        self._modes: dict[int, str | None] = {}
        self._pictures: list[tuple[int, Rect]] | None = None
        self._grounds: list[Rect] = []
        self._order: dict[int, int] = {}
        self.invisible = 0  # words in invisible ink, as the text layer of a scan is

    def why(self, at: int, box: Rect) -> str | None:
        """How the character is hidden, or None when it is seen."""
        key = _text_object(self._text, at) or 0
        if key not in self._modes:
            self._modes[key] = self._of_object(raw.FPDFText_GetTextObject(self._handle, at), at)
        why = self._modes[key]
        if why == "it is white on white":
            self._look()
            return None if any(_covers(ground, box) for ground in self._grounds) else why
        if why is None and self._has_pictures():
            own = self._order.get(key, -1)
            if any(number > own and _covers(rect, box) for number, rect in self._pictures or ()):
                return "it stands under a picture"
        return why

    def _of_object(self, of: Any, at: int) -> str | None:
        if of and raw.FPDFTextObj_GetTextRenderMode(of) in (3, 7):
            return "it is written in invisible ink"
        size = raw.FPDFText_GetFontSize(self._handle, at)
        if 0 < size < SMALLEST and raw.FPDFText_GetFontSize(self._handle, at) * _scale(of) < SMALLEST:
            return "its letters are too small to be read"
        if raw.FPDFText_GetFillColor(self._handle, at, *self._by_reference):
            red, green, blue, alpha = [each.value for each in self._colour]
            if alpha < 8:
                return "it is transparent"
            if min(red, green, blue) >= WHITE:
                return "it is white on white"
        return None

    def _has_pictures(self) -> bool:
        if self._pictures is None:
            self._look()
        return bool(self._pictures)

    def _look(self) -> None:
        """Note where pictures and filled grounds are, and which object is drawn after which."""
        if self._pictures is not None:
            return
        self._pictures = []
        count, page = min(raw.FPDFPage_CountObjects(self._page), MOST_OBJECTS), ctypes.cast(self._page.raw, _AT).value
        for number in range(count):
            there = _object_at(page, number)
            kind = _kind_of(there)
            if kind == raw.FPDF_PAGEOBJ_TEXT:
                self._order[there or 0] = number
                continue
            each = ctypes.cast(there, raw.FPDF_PAGEOBJECT)
            if kind == raw.FPDF_PAGEOBJ_IMAGE:
                rect = _bounds(each)
                if rect:
                    self._pictures.append((number, rect))
                    self._grounds.append(rect)
            elif kind in (raw.FPDF_PAGEOBJ_PATH, raw.FPDF_PAGEOBJ_SHADING):
                rect = _bounds(each)
                if rect and self._dark(each):
                    self._grounds.append(rect)

    def _dark(self, path: Any) -> bool:
        mode, stroke = ctypes.c_int(), ctypes.c_int()
        if raw.FPDFPageObj_GetType(path) == raw.FPDF_PAGEOBJ_PATH and (
            not raw.FPDFPath_GetDrawMode(path, ctypes.byref(mode), ctypes.byref(stroke)) or mode.value == 0
        ):
            return False
        if not raw.FPDFPageObj_GetFillColor(path, *self._by_reference):
            return True
        return min(each.value for each in self._colour[:3]) < WHITE and self._colour[3].value > 20


def has_picture(page: Any) -> bool:
    """Whether a page holds a picture, or a group of objects on it does."""
    at = ctypes.cast(page.raw, _AT).value
    objects = (_object_at(at, number) for number in range(min(raw.FPDFPage_CountObjects(page), MOST_OBJECTS)))
    return any(_pictured(each, DEEPEST) for each in objects)


def _pictured(there: int | None, deep: int) -> bool:
    kind = _kind_of(there)
    if kind != raw.FPDF_PAGEOBJ_FORM or deep == 1:
        return bool(kind == raw.FPDF_PAGEOBJ_IMAGE)
    return any(_pictured(_inner_at(there, number), deep - 1) for number in range(min(_inner_count(there), MOST_OBJECTS)))


def _scale(of: Any) -> float:
    matrix = raw.FS_MATRIX()
    if not of or not raw.FPDFPageObj_GetMatrix(of, matrix):
        return 1.0
    return float(max(abs(matrix.a), abs(matrix.b), abs(matrix.c), abs(matrix.d)) or 1.0)


def _bounds(each: Any) -> Rect | None:
    left, bottom, right, top = (ctypes.c_float() for _ in range(4))
    if not raw.FPDFPageObj_GetBounds(each, left, bottom, right, top):
        return None
    return left.value, bottom.value, right.value, top.value


def _covers(rect: Rect, box: Rect) -> bool:
    """Whether a rectangle covers the middle of a box."""
    across, up = (box[0] + box[2]) / 2, (box[1] + box[3]) / 2
    return rect[0] <= across <= rect[2] and rect[1] <= up <= rect[3]
