"""A program's screen in a browser of ours: fields, lists and buttons found by what is written on them or beside them, as a person finds them."""

from __future__ import annotations

import base64
import re
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from metrikon.connections.finding import SCRIPT
from metrikon.connections.veiling import OFF, ON, TYPED
from metrikon.core.entering.way import Place, SignIn
from metrikon.core.flows.connecting import origin
from metrikon.core.values.masking import MARK
from metrikon.ports.screen import ScreenStopped

SCRIPT_SECONDS, FILE_SECONDS = 4.0, 60.0  # that a script may take in the page, and one that reads a file
QUIET, LOOK = 0.05, 0.02  # seconds for which a screen must stay the same, and between looks


class Found(NamedTuple):
    """Something on the screen: the element, its type, and what it holds."""

    element: Any
    kind: str
    held: str


class BrowserScreen:
    """The screen. `joined`: a path as an address of the program; `signing`: user and secret, asked for when they are needed; `fresh`: has what
    is sent next go over a connection of its own, so that the browser never sends it twice by itself; `refused`: hosts that were not connected to, with why."""

    def __init__(
        self,
        driver: Any,
        joined: Callable[[str], str],
        signing: Callable[[], tuple[str, str]],
        patience: float,
        fresh: Callable[[], None] = lambda: None,
        refused: Mapping[str, str] | None = None,
    ) -> None:
        self._driver, self._joined, self._signing, self._patience, self._fresh = driver, joined, signing, patience, fresh
        self._refused: Mapping[str, str] = refused if refused is not None else {}
        self._home = origin(joined(""))
        driver.set_page_load_timeout(patience)
        driver.set_script_timeout(SCRIPT_SECONDS)

    def open(self, path: str) -> None:
        address = self._joined(path)
        try:
            with _Telling():
                self._driver.get(address)
                self._rest()
        finally:
            if why := self._refused.get(urlsplit(address).hostname or ""):
                raise ScreenStopped(why)

    def sign_in(self, said: SignIn) -> bool:
        if not self.signed_out(said):
            return False
        user, secret = self._signing()
        self._is_home("is asked for a secret")
        self.fill(Place(label=said.user), user)
        self._type_secret(self._found(Place(label=said.password), "password"), secret)
        try:
            self.press(Place(label=said.press))
        finally:
            self._is_home("came after signing in")
        if self.signed_out(said):
            raise ScreenStopped(
                "The program does not let us in: its form for signing in shows again. Look whether user and secret of the connection are right."
            )
        return True

    def _type_secret(self, found: Found, secret: str) -> None:
        """Type it into a field of the program's own page whose form goes to the program; one that makes way for another page takes nothing."""
        with _Telling():
            self._driver.execute_script(TYPED, found.element)
            sent = self._driver.execute_script(_SENT_TO, found.element)
        for each in sent:
            if str(each).lower().startswith(("http:", "https:")) and origin(str(each)) != self._home:
                raise ScreenStopped(
                    f"The form for signing in goes to {urlsplit(str(each)).hostname}, which is not the program of the connection. Nothing was typed."
                )
        self._is_home("is asked for a secret")
        self._type(found, secret)

    def _is_home(self, what: str) -> None:
        """Raises `ScreenStopped` where the page is not one of the program's own origin."""
        now = self.address()
        if not now.startswith(("http:", "https:")) or origin(now) != self._home:
            raise ScreenStopped(
                f"The page that {what} is at {urlsplit(now).hostname or now[:60]}, and the program of the connection at {self._home[1]}. "
                "The secret of a connection is for its own program alone."
            )

    def signed_out(self, said: SignIn) -> bool:
        with _Telling():
            return bool(self._run("return metrikon.find(arguments[0], 'password').length === 1", Place(label=said.password)))

    def fill(self, place: Place, text: str) -> None:
        found = self._found(place, "field")
        self._type(found, text)
        held = str(found.element.get_property("value") or "")
        if " ".join(held.split()) != " ".join(text.split()):
            raise ScreenStopped(f"The field {place.told} holds {held[:80]!r} after {text[:80]!r} was typed into it: it takes no such value.")

    def _type(self, found: Found, text: str) -> None:
        element, kind, held = found
        with _Telling():
            if kind in ("checkbox", "radio"):
                if bool(element.is_selected()) != (text.lower() in ("true", "yes", "1", "on")):
                    element.click()
            elif kind in ("date", "time", "datetime-local", "month", "color", "range"):
                self._driver.execute_script(_SET, element, text)
            else:
                if held:
                    element.clear()
                element.send_keys(text)

    def choose(self, place: Place, option: str, otherwise: str) -> str:
        with _Telling():
            found = self._run(_CHOOSE, place, option, otherwise)  # where it is there already: found and chosen in one
            if found is None:
                element = self._found(place, "list").element
                found = self._run("return metrikon.choose(arguments[0], arguments[1], arguments[2])", element, option, otherwise)
            if found is None:
                known = self._run("return metrikon.options(arguments[0])", element)
                raise ScreenStopped(
                    f"The list {place.told} has no {option[:80]!r}{f' and no {otherwise!r}' if otherwise else ''}. It has: {', '.join(map(str, known))[:300]}."
                )
            return str(found)

    def press(self, place: Place) -> None:
        element = self._found(place, "button").element
        self._fresh()
        time.sleep(LOOK)  # the browser sees that its connections are closed
        with _Telling():
            element.click()
            self._rest()

    def attach(self, place: Place, name: str, data: bytes) -> None:
        element = self._found(place, "file").element
        with _Telling(), tempfile.TemporaryDirectory(prefix="metrikon-paper-") as folder:
            path = Path(folder) / ("".join("_" if sign in "/\\\0" else sign for sign in name).strip(". ")[:150] or "paper")
            path.write_bytes(data)
            element.send_keys(str(path))
            self._rest()
            self._driver.set_script_timeout(FILE_SECONDS)
            self._driver.execute_async_script(_READ_FILES, element)  # its bytes are with the page before the file goes
            self._driver.set_script_timeout(SCRIPT_SECONDS)

    def shows(self, text: str, seconds: float) -> bool:
        until = time.monotonic() + seconds
        while True:
            with _Telling():
                found, now = self._run("return [metrikon.shows(arguments[0]), metrikon.state()]", text)
            if found:
                return True
            _must_answer(str(now))
            if time.monotonic() > until:
                return False
            time.sleep(LOOK)

    def holds(self, text: str) -> bool:
        with _Telling():
            return bool(self._run("return metrikon.holds(arguments[0])", text))

    def read(self, place: Place) -> str:
        with _Telling():
            found = self._run("return metrikon.read(arguments[0])", place)
        if found is None:
            raise ScreenStopped(f"Nothing is shown beside {place.told}.")
        return str(found)

    def messages(self, places: Sequence[str]) -> list[str]:
        with _Telling():
            return [str(each) for each in self._run("return metrikon.messages(arguments[0])", list(places))]

    def picture(self, secret: str = "") -> bytes:
        """The screen as PNG, with a veil over a secret."""
        with _Telling():
            if not secret:
                return self._pictured()
            self._driver.execute_script(ON, secret if origin(self.address()) == self._home else MARK)  # another page is not told it
            try:
                return self._pictured()
            finally:
                self._driver.execute_script(OFF)

    def _pictured(self) -> bytes:
        from selenium.common.exceptions import WebDriverException

        with _Telling():
            try:  # Chromium's own way is twice as fast as the protocol's
                told = self._driver.execute_cdp_cmd("Page.captureScreenshot", {"format": "png", "optimizeForSpeed": True})
                return base64.b64decode(told["data"])
            except (WebDriverException, KeyError):
                return bytes(self._driver.get_screenshot_as_png())

    def at(self, x: float, y: float) -> dict[str, Any] | None:
        """What stands at a point: its kind, and how it is named so that it is found again."""
        with _Telling():
            found = self._run("return metrikon.at(arguments[0], arguments[1])", x, y)
        return dict(found) if isinstance(found, dict) else None

    def signing(self) -> dict[str, str] | None:
        """The labels of the form for signing in that shows."""
        with _Telling():
            found = self._run("return metrikon.signing()")
        return dict(found) if isinstance(found, dict) else None

    def address(self) -> str:
        """Where it is now."""
        with _Telling():
            return str(self._driver.current_url)

    def _found(self, place: Place, kind: str) -> Found:
        """The one thing of a kind at a place; it is waited for."""
        until = time.monotonic() + self._patience
        while True:
            with _Telling():
                found = self._run(
                    "return metrikon.find(arguments[0], arguments[1]).map((each) => [each, each.type || '', each.value || ''])", place, kind
                )
            if len(found) == 1:
                return Found(*found[0])
            if found or time.monotonic() > until:
                break
            time.sleep(LOOK)
        what = _KINDS[kind]
        if found:
            raise ScreenStopped(
                f"There are {len(found)} {what}s {place.told} on the screen. Say in the way in which is meant: `near` some text, or in which `row`."
            )
        raise ScreenStopped(
            f"There is no {what} {place.told} on the screen. The program's layout may have changed: look at the picture, then correct the way in."
        )

    def _run(self, script: str, *given: Any) -> Any:
        plain = [each.model_dump() if isinstance(each, Place) else each for each in given]
        found = self._driver.execute_script(f"if (!window.metrikon) return 'not there yet'; {script}", *plain)
        if found != "not there yet":
            return found
        return self._driver.execute_script(f"{SCRIPT}\n{script}", *plain)  # a new page

    def _rest(self) -> None:
        """Wait until the screen has stayed the same for a moment; a page that makes way for another is looked at anew."""
        from selenium.common.exceptions import JavascriptException, StaleElementReferenceException, TimeoutException

        until = time.monotonic() + self._patience
        script = "const done = arguments[arguments.length - 1]; window.metrikon ? metrikon.quiet(arguments[0], arguments[1], done) : done('');"
        while time.monotonic() < until:
            try:
                now = str(self._driver.execute_async_script(script, QUIET * 1000, min(until - time.monotonic(), SCRIPT_SECONDS / 2) * 1000))
            except (JavascriptException, StaleElementReferenceException, TimeoutException):  # it made way for another page
                time.sleep(LOOK)
                continue
            _must_answer(now)
            if now.startswith("complete"):
                return
            self._run("return true")  # a new page: what looks at it is not there yet
        raise ScreenStopped(f"The program did not come to rest within {self._patience:g} seconds.", passing=True)


class _Telling:
    """What a browser raises, in words: a message of the program, one that does not answer, a browser that is gone."""

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, trace: Any) -> None:
        from selenium.common.exceptions import TimeoutException, UnexpectedAlertPresentException, WebDriverException

        if isinstance(error, UnexpectedAlertPresentException):
            raise ScreenStopped(f"The program says: {str(error.alert_text or '')[:300]}") from error
        if isinstance(error, TimeoutException):
            raise ScreenStopped("The program did not answer in time.", passing=True) from error
        if isinstance(error, WebDriverException):
            told = (str(error.msg or "").splitlines() or [""])[0][:200]
            raise ScreenStopped(f"The browser could not do it: {told}.", passing="ERR_" in told) from error


def _must_answer(state: str) -> None:
    """Raises `ScreenStopped` for a page that stands in the place of what the program would have answered."""
    if " chrome-error:" in state or _GONE.search(state):
        raise ScreenStopped("The program does not answer.", passing=True)


_GONE = re.compile(r" status=50[234]$")
_KINDS = {"field": "field", "list": "list", "button": "button", "file": "field for files", "password": "field for a password"}
_CHOOSE = """
const found = metrikon.find(arguments[0], 'list');
return found.length === 1 ? metrikon.choose(found[0], arguments[1], arguments[2]) : null;
"""
_SENT_TO = """
const get = (element, name) => Element.prototype.getAttribute.call(element, name);
const form = Element.prototype.closest.call(arguments[0], 'form') || arguments[0].form;
const told = [form && get(form, 'action'), ...[...document.querySelectorAll('[formaction]')].map((each) => get(each, 'formaction'))];
return told.filter(Boolean).map((each) => new URL(each, document.baseURI).href);
"""
_SET = """
const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;
set.call(arguments[0], arguments[1]);
for (const kind of ['input', 'change']) arguments[0].dispatchEvent(new Event(kind, {bubbles: true}));
"""
_READ_FILES = """
const done = arguments[arguments.length - 1];
const element = arguments[0];
Promise.all([...element.files].map(async (file) => new File([await file.arrayBuffer()], file.name, {type: file.type}))).then((files) => {
  const held = new DataTransfer();
  files.forEach((file) => held.items.add(file));
  element.files = held.files;
  done(true);
}, () => done(false));
"""
