"""A search service, simulated: it describes itself (OpenSearch 1.1), and answers in pages as RSS or Atom."""

from __future__ import annotations

from xml.sax.saxutils import escape

from flask import Blueprint, Response, request

from metrikon.sandbox.page import page

SITES = [
    ("Fernhill Nurseries", "Ferns, trees and shrubs for gardens near Ellerby."),
    ("Moorgate Seed", "Seeds of wild flowers; price list each spring."),
    ("Brackendale Growers", "Perennials and grasses. Open on Saturdays."),
    ("Marlow Bulbs", "Bulbs for autumn planting, by mail."),
    ("Ashdown Tools", "Tools for gardens, and their repair."),
    ("Linley Glass", "Glasshouses: repair, glass, putty."),
    ("Wold Herbs", "Herbs in pots, organic."),
]
A_PAGE = 3


def blueprint() -> Blueprint:
    """The routes."""
    api = Blueprint("search", __name__)

    @api.get("/search/description.xml")
    def description() -> Response:
        base = request.host_url.rstrip("/")
        told = (
            '<?xml version="1.0" encoding="UTF-8"?><OpenSearchDescription xmlns="http://a9.com/-/spec/opensearch/1.1/"><ShortName>Sites</ShortName>'
            "<Description>Sites of growers near Ellerby (made up)</Description>"
            f'<Url type="text/html" template="{base}/search?q={{searchTerms}}"/>'
            f'<Url type="application/rss+xml" indexOffset="1" pageOffset="1" template="{base}/search/found?q={{searchTerms}}&amp;page={{startPage?}}"/>'
            f'<Url type="application/atom+xml" template="{base}/search/found?q={{searchTerms}}&amp;from={{startIndex?}}&amp;form=atom"/></OpenSearchDescription>'
        )
        return Response(told, content_type="application/opensearchdescription+xml")

    @api.get("/search/found")
    def found() -> Response:
        words = request.args.get("q", "").lower().split()
        hits = [(title, text) for title, text in SITES if all(word in f"{title} {text}".lower() for word in words)]
        base = request.host_url.rstrip("/")
        begins = (request.args.get("page", 1, int) - 1) * A_PAGE if "page" in request.args else request.args.get("from", 1, int) - 1
        some = hits[max(0, begins) : max(0, begins) + A_PAGE]
        return Response(
            _atom(base, some, len(hits)) if request.args.get("form") == "atom" else _rss(base, some, len(hits)), content_type="application/xml"
        )

    @api.get("/search/sites/<name>")
    def site(name: str) -> Response:
        known = next(((title, text) for title, text in SITES if _name(title) == name), None)
        if known is None:
            return Response("", 404)
        return Response(f"<!doctype html><title>{known[0]}</title><h1>{known[0]}</h1><p>{known[1]}</p>", content_type="text/html; charset=utf-8")

    @api.get("/search")
    def search_page() -> str:
        return page("A search service", "GET /search/description.xml (OpenSearch)", [f"{title}: {text}" for title, text in SITES], {})

    return api


def _name(title: str) -> str:
    return title.lower().replace(" ", "-")


def _rss(base: str, some: list[tuple[str, str]], total: int) -> str:
    items = "".join(
        f"<item><title>{escape(title)}</title><link>{base}/search/sites/{_name(title)}</link><description>{escape(text)}</description></item>"
        for title, text in some
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?><rss version="2.0" xmlns:opensearch="http://a9.com/-/spec/opensearch/1.1/"><channel><title>Sites</title>'
        f"<opensearch:totalResults>{total}</opensearch:totalResults>{items}</channel></rss>"
    )


def _atom(base: str, some: list[tuple[str, str]], total: int) -> str:
    entries = "".join(
        f'<entry><title>{escape(title)}</title><link href="{base}/search/sites/{_name(title)}"/><summary>{escape(text)}</summary></entry>'
        for title, text in some
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?><feed xmlns="http://www.w3.org/2005/Atom" xmlns:opensearch="http://a9.com/-/spec/opensearch/1.1/">'
        f"<title>Sites</title><opensearch:totalResults>{total}</opensearch:totalResults>{entries}</feed>"
    )
