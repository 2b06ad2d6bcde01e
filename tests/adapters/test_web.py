"""Web pages: the text of the page itself, not what stands around it; nothing fetched, nothing run."""

from __future__ import annotations

import socket

import pytest

from metrikon.core.documents.model import Document
from metrikon.core.documents.text import document_text
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.prompt import parts
from metrikon.readers.registry import read

BODY = "The roof of the palm house is mended at last, and the palms may grow for another twenty years. " * 3


def page(body: str, head: str = "") -> Document:
    return read(f"<!doctype html><html><head><title>t</title>{head}</head><body>{body}</body></html>".encode())


def text(body: str) -> str:
    return " ".join(document_text(page(body)).split())


@pytest.mark.parametrize(
    "around",
    [
        "<nav>Home News Shop</nav>",
        "<header>Home News Shop</header>",
        "<footer>Home News Shop</footer>",
        "<aside>Home News Shop</aside>",
        '<div class="main-menu">Home News Shop</div>',
        '<div id="cookie-consent"><p>Home News Shop</p></div>',
        '<ul class="breadcrumbs"><li>Home</li><li>News</li><li>Shop</li></ul>',
        '<div role="navigation">Home News Shop</div>',
        '<section class="related-articles"><p>Home News Shop</p></section>',
        "<script>document.write('Home News Shop')</script>",
        "<style>p::after{content:'Home News Shop'}</style>",
        "<noscript>Home News Shop</noscript>",
        "<template><p>Home News Shop</p></template>",
        "<select><option>Home News Shop</option></select>",
    ],
)
@pytest.mark.parametrize(
    "frame", ["<main><h1>Palms</h1><p>{}</p></main>", "<div><div><h1>Palms</h1><p>{}</p></div></div>", "<article><p>{}</p></article>"]
)
def test_what_stands_around_the_text_is_left_out(around: str, frame: str) -> None:
    said = text(around + frame.format(BODY) + around)
    assert "palm house is mended" in said
    assert "Home" not in said


def test_without_marks_the_part_with_most_text_is_the_page() -> None:
    links = "".join(f'<div><a href="/{n}">Some other page of the shop, number {n}</a></div>' for n in range(30))
    said = text(f"<div>{links}</div><div><div><p>{BODY}</p><p>{BODY}</p></div></div>")
    assert said.startswith("The roof of the palm house")
    assert "Some other page" not in said


def test_a_heading_above_the_main_part_belongs_to_it() -> None:
    said = text(f"<div><h1>Palms</h1></div><div><div><p>{BODY}</p><p>{BODY}</p></div></div>")
    assert said.startswith("Palms The roof")


@pytest.mark.parametrize(
    ("hidden", "why"),
    [
        ('<p style="display:none">secret</p>', "style"),
        ('<p style="visibility: hidden">secret</p>', "style"),
        ('<p style="font-size:0">secret</p>', "style"),
        ('<p style="position:absolute; left:-9999px">secret</p>', "style"),
        ('<p style="opacity: 0">secret</p>', "style"),
        ("<p hidden>secret</p>", "hides it"),
        ('<p style="color:#fff">secret</p>', "white on white"),
        ('<p style="color: white">secret</p>', "white on white"),
    ],
)
def test_what_no_reader_of_the_page_sees_is_hidden(hidden: str, why: str) -> None:
    found = page(f"<main><p>{BODY}</p>{hidden}</main>")
    assert "secret" not in document_text(found)
    assert [each.text for each in found.hidden] == ["secret"]
    assert why in found.hidden[0].why


@pytest.mark.parametrize(
    "seen", ['<p style="color:#fff; background:#123">seen</p>', '<p style="opacity: 0.9">seen</p>', '<p style="font-size:0.9em">seen</p>']
)
def test_what_is_seen_is_not_taken_for_hidden(seen: str) -> None:
    assert "seen" in text(f"<main><p>{BODY}</p>{seen}</main>")


@pytest.mark.parametrize("tag", ["del", "s", "strike", 'span style="text-decoration: line-through"'])
def test_crossed_out_words_are_marked(tag: str) -> None:
    name = tag.split()[0]
    assert text(f"<main><p>{BODY}</p><p>Now <{tag}>9.80</{name}> 7.40</p></main>").endswith("Now [crossed out: 9.80] 7.40")


def test_a_table_has_its_header_and_spanned_cells_keep_the_columns() -> None:
    rows = "<tr><th>Plant</th><th>Pot</th><th>Price</th></tr><tr><td>Fern</td><td>9 cm</td><td>4.20</td></tr><tr><td colspan=2>Moss</td><td>1.10</td></tr>"
    (table,) = page(f"<main><p>{BODY}</p><table>{rows}</table></main>").tables
    assert [cell.text for cell in table.header] == ["Plant", "Pot", "Price"]
    assert [[cell.text for cell in row] for row in table.rows] == [["Fern", "9 cm", "4.20"], ["Moss", "", "1.10"]]
    assert table.types == ("text", "text", "number")


def test_a_table_that_only_lays_out_the_page_is_read_as_text() -> None:
    found = page(f'<table role="presentation"><tr><td><p>{BODY}</p></td><td><p>Second</p></td></tr></table>')
    assert found.tables == ()
    assert "Second" in document_text(found)


def test_links_are_kept_and_never_followed(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object, **__: object) -> None:
        raise AssertionError("something was fetched")

    monkeypatch.setattr(socket, "create_connection", refuse)
    monkeypatch.setattr(socket, "getaddrinfo", refuse)
    body = f'<main><p>{BODY} <a href="https://fern.example/a">the ferns</a> <a href="javascript:alert(1)">x</a> <a href="#top">up</a></p>'
    found = page(
        body + '<img src="http://evil.example/x.png"><iframe src="http://evil.example"></iframe></main>',
        '<link rel="stylesheet" href="http://evil.example/s.css">',
    )
    assert [(link.text, link.address) for link in found.links] == [("the ferns", "https://fern.example/a")]


@pytest.mark.parametrize("charset", ["utf-8", "iso-8859-1", "windows-1252"])
def test_the_encoding_that_a_page_names_is_taken(charset: str) -> None:
    given = f'<html><head><meta charset="{charset}"></head><body><main><p>Crêpes à la Müller. {BODY}</p></main></body></html>'
    assert "Crêpes à la Müller" in document_text(read(given.encode(charset)))


def test_tags_within_a_word_do_not_part_it() -> None:
    assert "Hellebore" in text(f"<main><p>{BODY}</p><p>Hel<b>leb</b>ore</p></main>")


def test_a_page_made_by_scripts_alone_says_so() -> None:
    found = page('<div id="root"></div><script>start()</script>')
    assert "made by scripts" in found.warnings[0]


def test_a_page_nested_without_end_is_read_or_refused() -> None:
    assert page("<div>" * 5000 + "deep").format == "html"


def test_head_and_foot_of_a_page_say_who_is_behind_it_and_links_tell_their_addresses() -> None:
    page = (
        "<body><header><a href='/'>Ellerby Garden</a><nav><a href='/a'>Plants</a></nav></header><main><h1>Team</h1><p>"
        + "Ferns need shade. " * 20
        + "</p><p><a href='mailto:ada@ellerby.example?subject=Hi'>Write to Ada</a> or <a href='tel:+441632960412'>call</a>.</p></main>"
        "<footer><p>The garden is run by Ellerby Growers Ltd, a registered society.</p>Mill Lane 4 · <a href='/i'>Imprint</a> · Last change: 2 March 2026</footer></body>"
    )
    text = document_text(read(f"<!doctype html><html>{page}</html>".encode()))
    assert "Ellerby Garden" in text
    assert "Write to Ada <ada@ellerby.example>" in " ".join(text.split())
    assert "<+441632960412>" in text
    assert "Last change: 2 March 2026" in text
    assert "run by Ellerby Growers Ltd" in " ".join(text.split())
    assert "Plants" not in text


def test_moments_that_a_page_tells_programs_are_facts() -> None:
    document = read(b"<!doctype html><html><body><p>Fern walk on <time datetime='2026-05-02T14:30'>Saturday</time></p></body></html>")
    assert [(fact.name, fact.value) for fact in document.facts if fact.path.startswith("/time")] == [("Saturday", "2026-05-02T14:30")]


CARDS = "".join(
    f'<div class="who"><h3>{name}</h3><p>{work}</p><p>Durchwahl -{number}</p></div>'
    for name, work, number in (("Ada Fern", "Palms", 11), ("Rufus Tarn", "Ferns", 12), ("Edda Moss", "Seeds", 13))
)


def test_parts_alike_of_a_page_stand_apart_and_are_counted() -> None:
    found = page(f"<main><h1>Team</h1><p>{BODY}</p>{CARDS}<p>Come and see us.</p></main>")
    lines = [line.text for line in found.pages[0].lines]
    assert [(lines[each.line], each.number, each.of) for each in found.alike] == [("Ada Fern", 1, 3), ("Rufus Tarn", 2, 3), ("Edda Moss", 3, 3)]
    (shown,) = parts(Index(found), {}, 9000)
    assert "\n\n[2 of 3]\nRufus Tarn\nFerns\nDurchwahl -12\n\n[3 of 3]" in shown.text


@pytest.mark.parametrize(
    "parts_of_page",
    [
        CARDS.replace('<div class="who"><h3>Edda Moss</h3><p>Seeds</p><p>Durchwahl -13</p></div>', ""),  # two are no row
        "".join(f"<section><p>{BODY}</p><p>{BODY * 2}</p></section>" for _ in range(3)),  # chapters
        "<div><h2>Hours</h2><p>9 to 5</p></div><div><p>Mill Lane</p><p>Ellerby</p></div><div><ul><li>Ferns</li><li>Moss</li></ul><p>All</p></div>",
    ],
)
def test_what_only_stands_side_by_side_is_not_counted(parts_of_page: str) -> None:
    assert page(f"<main><h1>Garden</h1><p>{BODY}</p>{parts_of_page}</main>").alike == ()


def test_a_link_that_only_leads_elsewhere_is_no_text_of_the_foot() -> None:
    foot = "<footer>Mill Lane 4 · <a href='/imprint'>Imprint</a> · Changed 2 March 2026 · <a href='tel:+441632960412'>Call</a></footer>"
    said = text(f"<main><p>{BODY}</p></main>{foot}")
    assert "Mill Lane 4 · Changed 2 March 2026 · Call <+441632960412>" in said
    assert "Imprint" not in said
