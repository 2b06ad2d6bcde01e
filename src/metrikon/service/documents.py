"""Documents and the files they were read from."""

from __future__ import annotations

from flask import Response
from flask_openapi3 import Tag

from metrikon.app.assemble import App
from metrikon.service.asked import HashPath, PagePath, PictureQuery
from metrikon.service.description import Room
from metrikon.service.problems import Problem
from metrikon.service.reply import reply
from metrikon.service.sent import kept_file
from metrikon.service.views import (
    DocumentView,
    FactView,
    HiddenView,
    PageView,
    PartView,
    WordView,
)

SIZES = (20, 110, 160)  # dots an inch at which page pictures are drawn


def blueprint(app: App) -> Room:
    """The routes."""
    api = Room("documents", __name__, abp_tags=[Tag(name="documents")])

    @api.get("/api/documents/<string:sha256>", responses={200: DocumentView}, operation_id="getDocument")
    def document(path: HashPath) -> Response:
        """A document with the words and boxes of its pages."""
        found = app.workshop.read_document(kept_file(app, path.sha256))
        pages = [
            PageView(
                number=p.number,
                width=p.width,
                height=p.height,
                source=p.source,
                part=p.part,
                words=[WordView(text=w.text, box=w.box) for w in p.words],
            )
            for p in found.pages
        ]
        view = DocumentView(
            sha256=found.sha256,
            format=found.format,
            why=found.why,
            pages=pages,
            warnings=list(found.warnings),
            facts=[FactView(name=f.name, value=f.value, source=f.source, path=f.path, term=f.term) for f in found.facts[:500]],
            hidden=[HiddenView(text=each.text, why=each.why, page=each.page) for each in found.hidden[:100]],
            parts=[PartView(name=each.name, file=each.sha256, size=each.size, role=each.role) for each in found.parts],
        )
        return reply(view)

    @api.get(
        "/api/documents/<string:sha256>/pages/<int:page>/picture",
        responses={200: {"content": {"image/png": {}, "image/svg+xml": {}}}},
        operation_id="getPagePicture",
    )
    def page_picture(path: PagePath, query: PictureQuery) -> Response:
        """The picture of a page, drawn when first asked for: PNG, or SVG for what has no pages of its own."""
        sha256 = kept_file(app, path.sha256)
        found = app.workshop.read_document(sha256)
        if path.page > len(found.pages):
            raise Problem(404, "no-page", f"The document has {len(found.pages)} pages.")
        data, media = app.workshop.page_picture(found, path.page, min(SIZES, key=lambda size: abs(size - query.dots)))
        return Response(data, content_type=media, headers={"Cache-Control": "private, max-age=86400, immutable"})

    @api.get("/api/files/<string:sha256>", responses={200: {"content": {"application/octet-stream": {}}}}, operation_id="getFile")
    def file(path: HashPath) -> Response:
        """The bytes as they came in; offered for saving, never shown in place."""
        data = app.files.get(kept_file(app, path.sha256))
        return Response(data, content_type="application/octet-stream", headers={"Content-Disposition": "attachment"})

    return api
