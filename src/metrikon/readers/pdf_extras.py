"""What a PDF holds besides its print: form fields, links, attached files, and the e-invoice among them."""

from __future__ import annotations

import ctypes
import hashlib
from collections.abc import Iterator
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from metrikon.core.documents.model import Fact, Link, Part, Word
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused

_WIDGET, _LINK = 20, 2
_CHECKED = {raw.FPDF_FORMFIELD_CHECKBOX, raw.FPDF_FORMFIELD_RADIOBUTTON}
MOST_ANNOTATIONS = 2000


def _string(call: Any, *before: Any) -> str:
    """Text that PDFium writes into a buffer as UTF-16, its length in bytes asked for first."""
    length = call(*before, None, 0)
    if length <= 2 or length > 1_000_000:
        return ""
    buffer = ctypes.create_string_buffer(length)
    call(*before, ctypes.cast(buffer, ctypes.POINTER(ctypes.c_ushort)), length)
    return clean(buffer.raw[: length - 2].decode("utf-16-le", "replace"))


def page_extras(pdf: Any, page: Any, number: int, form: Any) -> tuple[list[tuple[Fact, tuple[float, float, float, float]]], list[Link]]:
    """Filled form fields of a page with their rectangles in PDF space, and addresses that it links to."""
    fields: list[tuple[Fact, tuple[float, float, float, float]]] = []
    links: list[Link] = []
    for at in range(min(raw.FPDFPage_GetAnnotCount(page), MOST_ANNOTATIONS)):
        annotation = raw.FPDFPage_GetAnnot(page, at)
        if not annotation:
            continue
        try:
            kind = raw.FPDFAnnot_GetSubtype(annotation)
            if kind == _WIDGET and form:
                fact = _field(form, annotation, number)
                rectangle = raw.FS_RECTF()
                if fact and raw.FPDFAnnot_GetRect(annotation, rectangle):
                    fields.append((fact, (rectangle.left, rectangle.top, rectangle.right, rectangle.bottom)))
            elif kind == _LINK:
                address = _address(pdf, annotation)
                if address:
                    links.append(Link("", address, number))
        finally:
            raw.FPDFPage_CloseAnnot(annotation)
    return fields, links


def _field(form: Any, annotation: Any, number: int) -> Fact | None:
    name = _string(raw.FPDFAnnot_GetFormFieldName, form, annotation)
    value = _string(raw.FPDFAnnot_GetFormFieldValue, form, annotation)
    kind = raw.FPDFAnnot_GetFormFieldType(form, annotation)
    if kind in _CHECKED:
        value = "yes" if raw.FPDFAnnot_IsChecked(form, annotation) else "no"
    shown = _string(raw.FPDFAnnot_GetFormFieldAlternateName, form, annotation) or name.rsplit(".", 1)[-1].replace("_", " ")
    return Fact("form field", f"/{name}", shown, value, page=number) if name and value else None


def _address(pdf: Any, annotation: Any) -> str:
    link = raw.FPDFAnnot_GetLink(annotation)
    action = raw.FPDFLink_GetAction(link) if link else None
    if not action or raw.FPDFAction_GetType(action) != raw.PDFACTION_URI:
        return ""
    length = raw.FPDFAction_GetURIPath(pdf, action, None, 0)
    if not 1 < length < 5000:
        return ""
    buffer = ctypes.create_string_buffer(length)
    raw.FPDFAction_GetURIPath(pdf, action, buffer, length)
    return clean(buffer.value.decode("utf-8", "replace"))


def field_words(value: str, box: tuple[float, float, float, float]) -> list[Word]:
    """The words of a form field's value, spread over its rectangle from left to right."""
    x0, y0, x1, y1 = box
    height = min(y1 - y0, 11.0)
    middle = (y0 + y1) / 2
    wide = min(height * 0.5, (x1 - x0) / max(len(value), 1))
    words, at = [], x0 + 2
    for text in value.split():
        words.append(Word(text, round(at, 2), round(middle - height / 2, 2), round(at + len(text) * wide, 2), round(middle + height / 2, 2)))
        at += (len(text) + 1) * wide
    return words


def attached(pdf: Any, limits: Limits) -> Iterator[tuple[Part, bytes]]:
    """Files attached to a PDF. Raises `Refused` beyond the limits."""
    total = 0
    for number in range(pdf.count_attachments()):
        if number >= limits.max_members:
            raise Refused("too-large", f"The PDF carries more than {limits.max_members} files (setting max_members).")
        try:
            attachment = pdf.get_attachment(number)
            data = bytes(attachment.get_data())
        except pdfium.PdfiumError:
            continue
        total += len(data)
        if total > limits.max_expanded:
            raise Refused("too-large", f"The files in the PDF come to more than {limits.max_expanded / 1e6:.0f} MB (setting max_expanded).")
        name = clean(attachment.get_name().replace("\\", "/").rsplit("/", 1)[-1])[:255] or f"attachment-{number + 1}"
        if data:
            yield Part(name, hashlib.sha256(data).hexdigest(), len(data)), data


def carried_invoice(parts: list[tuple[Part, bytes]], warnings: list[str]) -> list[Fact]:
    """The facts of the e-invoice that a PDF carries, if it carries one."""
    for part, data in parts:
        if not part.name.lower().endswith(".xml"):
            continue
        from metrikon.readers.einvoice import invoice_facts, line_facts
        from metrikon.readers.structured import parsed_xml

        try:
            found = invoice_facts(parsed_xml(data))
        except Refused as error:
            warnings.append(f"The file {part.name} that the PDF carries cannot be read: {error.reason}")
            continue
        if found is not None:
            return [*found.facts, *line_facts(found)]
    return []
