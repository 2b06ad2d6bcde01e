"""The parts of a web page: which holds its own text, what stands around it, what nobody sees."""

from __future__ import annotations

import re
from collections import Counter

from lxml import etree

from metrikon.core.values.text import clean

GONE = {
    "script",
    "style",
    "noscript",
    "template",
    "svg",
    "iframe",
    "object",
    "embed",
    "canvas",
    "audio",
    "video",
    "map",
    "head",
    "select",
    "button",
    "input",
    "textarea",
    "dialog",
}
_AROUND = {"nav", "footer", "aside", "menu"}
_ROLES = {"navigation", "banner", "contentinfo", "complementary", "search", "dialog", "alertdialog", "menu", "menubar"}
_NAMES = re.compile(
    r"(?:^|[\s_-])(?:nav(?:igation|bar)?|menu|breadcrumbs?|cookies?|consent|banner|sidebar|footer|newsletter|subscribe|share|social|related|comments?|popup|modal|advert(?:isement)?|ads?|promo|skip)(?:$|[\s_-])",
    re.I,
)
BLOCK = {
    "p",
    "div",
    "section",
    "article",
    "main",
    "li",
    "dt",
    "dd",
    "h1",
    "h2",
    "h3",
    "h4",
    "h5",
    "h6",
    "blockquote",
    "pre",
    "figure",
    "figcaption",
    "address",
    "header",
    "body",
    "html",
    "form",
    "fieldset",
    "ul",
    "ol",
    "dl",
    "center",
    "details",
    "summary",
    "hgroup",
    "td",
    "th",
    "tr",
}
_UNSEEN = re.compile(
    r"display\s*:\s*none|visibility\s*:\s*hidden|opacity\s*:\s*0(?:\.0+)?\s*(?:;|$)|font-size\s*:\s*0(?:px|pt|em)?\s*(?:;|$)|(?:left|top|text-indent)\s*:\s*-\d{3,}",
    re.I,
)
_WHITE = re.compile(r"(?:^|;)\s*color\s*:\s*(?:#fff(?:fff)?|white|rgb\(\s*255\s*,\s*255\s*,\s*255\s*\))", re.I)
_GROUND = re.compile(r"background(?:-color)?\s*:\s*(?!\s*(?:#fff(?:fff)?|white|transparent|none))", re.I)
LEAST_LINKS = 4
LEAST_CARDS, LARGEST_CARD, MOST_IN_CARD = 3, 600, 20  # parts, characters of a part, lines of one
DEEPEST = 200


def main_part(body: etree._Element) -> etree._Element:
    """The part that holds the page's own text: where it says so itself, else where most text outside links stands."""
    whole = _weight(body)
    named = [e for e in body.iter("main", "article") if _weight(e) > 0.25 * whole] or [
        e for e in body.iter() if isinstance(e.tag, str) and e.get("role") in ("main", "article") and _weight(e) > 0.25 * whole
    ]
    mains = [e for e in named if e.tag == "main" or e.get("role") == "main"]
    if mains:
        return mains[0]
    if len(named) == 1:
        return named[0]
    part, depth = body, 0
    while depth < DEEPEST:
        inner = [e for e in part if isinstance(e.tag, str) and e.tag in BLOCK and not is_around(e)]
        best = max(inner, key=_weight, default=None)
        if best is None or best.tag in ("table", "ul", "ol", "dl", "p", "tr", "li") or _weight(best) < 0.75 * _weight(part):
            return part  # what stands beside it belongs to the text as much
        part, depth = best, depth + 1
    return part


def _weight(element: etree._Element) -> float:
    """Letters that stand outside links and outside what is around."""
    total = 0.0
    stack = [(element, 0)]
    while stack:
        each, depth = stack.pop()
        if not isinstance(each.tag, str) or depth > DEEPEST or (each is not element and (each.tag in GONE or is_around(each) or unseen(each))):
            continue
        own = len((each.text or "").strip())
        total += own * (0.2 if each.tag == "a" else 1.0)
        for child in each:
            total += len((child.tail or "").strip())
            stack.append((child, depth + 1))
    return total


def is_around(element: etree._Element) -> bool:
    """Navigation, banners and the like, by what the page itself calls them."""
    if element.tag in _AROUND or element.get("role") in _ROLES:
        return True
    if element.tag in ("main", "article", "body", "html", "table", "h1"):
        return False
    if element.tag == "header":
        return element.find(".//h1") is None
    return bool(_NAMES.search(f"{element.get('class', '')} {element.get('id', '')}"[:300]))


def is_listing(element: etree._Element) -> bool:
    """Whether a part of the page holds little but links to other pages."""
    linked = [len(text_of(link)) for link in element.iter("a")]
    return len(linked) >= LEAST_LINKS and sum(linked) > 0.8 * len(text_of(element)) and element.find(".//table") is None


def card(element: etree._Element) -> tuple[int, int] | None:
    """Which of how many parts alike an element is that hold several lines each, such as the people of a team; None when it is none."""
    parent = element.getparent()
    if parent is None or not _may_be_card(element):
        return None
    kin = [each for each in parent if each.tag == element.tag and each.get("class") == element.get("class") and _may_be_card(each)]
    return (kin.index(element) + 1, len(kin)) if len(kin) >= LEAST_CARDS and _built_alike(kin) else None


def _may_be_card(element: etree._Element) -> bool:
    lines = sum(1 for each in element.iterdescendants(*BLOCK, "br"))
    return 2 <= lines <= MOST_IN_CARD and len(text_of(element)) <= LARGEST_CARD


def _built_alike(kin: list[etree._Element]) -> bool:
    """Whether most of some elements hold the same parts in the same order as another of them, or some of those parts."""
    built = Counter(tuple(each.tag for each in element.iterdescendants() if each.tag in BLOCK) for element in kin)
    fullest = max(built, key=len)
    return len(built) <= max(1, len(kin) // 2) or all(_within(each, fullest) for each in built)


def _within(some: tuple[str, ...], every: tuple[str, ...]) -> bool:
    """Whether some parts stand among others in their order."""
    left = iter(every)
    return all(each in left for each in some)


def unseen(element: etree._Element) -> str | None:
    """Why an element is not seen, or None."""
    style = element.get("style", "")
    if "hidden" in element.attrib:
        return "the page hides it"
    if style and _UNSEEN.search(style):
        return "its style hides it"
    return "it is white on white" if style and _WHITE.search(style) and not _GROUND.search(style) else None


def text_of(element: etree._Element) -> str:
    """All text in an element, whatever stands between."""
    return clean(" ".join(str(text) for text in element.itertext()))
