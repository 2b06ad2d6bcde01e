"""No way out of the house reaches an address of this machine or a private network unless that is allowed: a listener hears nothing, whichever way is tried."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from urllib.parse import quote

import pytest

from metrikon.app.assemble import App
from metrikon.connections.browser import browser
from metrikon.connections.fetching import FetchFailed, Wanted
from metrikon.core.flows.connecting import Way
from metrikon.engine.connecting import BadConnection

SECRET = "saffron-crocus-17"
HOSTS = ("127.0.0.1", "localhost", "[::1]", "0.0.0.0", "2130706433", "0x7f.1", "[::ffff:127.0.0.1]", "[64:ff9b::7f00:1]")


@dataclass
class Listener:
    """Listens at a port, over TCP and UDP, and notes who came."""

    port: int = 0
    heard: list[str] = field(default_factory=list)


@pytest.fixture
def listener() -> Iterator[Listener]:
    made, done = Listener(), threading.Event()
    with socket.socket(socket.AF_INET6) as tcp, socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) as udp:
        for each in (tcp, udp):
            each.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        tcp.bind(("::", 0))
        made.port = tcp.getsockname()[1]
        udp.bind(("::", made.port))
        tcp.listen(50)
        for each in (tcp, udp):
            each.settimeout(0.1)

        def listen() -> None:
            while not done.is_set():
                try:
                    other, where = tcp.accept()
                    made.heard.append(f"tcp {where}")
                    other.close()
                except TimeoutError:
                    pass
                try:
                    made.heard.append(f"udp {udp.recvfrom(2000)[1]}")
                except TimeoutError:
                    pass

        thread = threading.Thread(target=listen)
        thread.start()
        yield made
        done.set()
        thread.join()


@pytest.mark.parametrize("host", HOSTS)
def test_no_connection_of_any_kind_reaches_this_machine(host: str, house: Callable[..., App], listener: Listener) -> None:
    app, at = house(), f"{host}:{listener.port}"
    ways = {
        f"http://{at}": Way("bearer"),
        f"https://{at}": Way("bearer"),
        f"imap://{at}": Way("basic", "ada"),
        f"imaps://{at}": Way("basic", "ada"),
        f"smtp://{at}": Way("basic", "ada"),
        f"smtps://{at}": Way("basic", "ada"),
        f"postgresql://{at}/ledger": Way("basic", "ada"),
        f"mariadb://{at}/ledger": Way("basic", "ada"),
        "https://garden.example": Way("client", "ada", token_url=f"http://{at}/token"),
    }
    for address, way in ways.items():
        try:
            told = app.connections.put("out", address, way, SECRET, "ada")
        except BadConnection:
            continue  # an address that is none is not kept
        assert told["failing_since"], address
        for call in (lambda: app.outside.fetch(Wanted("x", connection="out")), lambda: app.outside.mail("out"), lambda: app.outside.sender("out")):
            with pytest.raises(FetchFailed):
                call()
    for url in (f"http://{at}/page", f"https://{at}/page"):
        with pytest.raises(FetchFailed):
            app.outside.fetch(Wanted(url))
        with pytest.raises(FetchFailed):
            app.outside.fetch(Wanted(url, drawn=True))
    time.sleep(0.3)
    assert listener.heard == []


PAGE = """<!doctype html><link rel=preconnect href="http://AT"><link rel=dns-prefetch href="//AT"><link rel=prefetch href="http://AT/p"><link rel=stylesheet href="http://AT/s.css">
<script src="http://AT/a.js"></script><img src="http://AT/i.png"><iframe src="http://AT/f"></iframe><object data="http://AT/o"></object><video src="http://AT/v.mp4"></video>
<a id=d href="http://AT/file.zip" download>d</a><form id=f action="http://AT/post" method=post target=n></form><iframe name=n></iframe>
<script>
const go = (act) => { try { act(); } catch (error) { /* that it fails is what is wanted */ } };
go(() => fetch('http://AT/x', {mode: 'no-cors'})); go(() => navigator.sendBeacon('http://AT/b', 'x')); go(() => new WebSocket('ws://AT/w')); go(() => new EventSource('http://AT/e'));
go(() => { const p = new RTCPeerConnection({iceServers: [{urls: ['stun:AT', 'turn:AT?transport=tcp', 'turn:AT?transport=udp'], username: 'a', credential: 'b'}]});
  p.createDataChannel('a'); p.createOffer().then((o) => p.setLocalDescription(o)); });
go(() => new Worker(URL.createObjectURL(new Blob(["fetch('http://AT/worker', {mode: 'no-cors'})"])))); go(() => navigator.serviceWorker.register('http://AT/sw.js'));
go(() => new WebTransport('https://AT/t')); go(() => window.open('http://AT/win')); go(() => document.getElementById('d').click()); go(() => document.getElementById('f').submit());
</script>"""


@pytest.mark.parametrize("host", ["127.0.0.1", "localhost", "[::1]"])
def test_whatever_a_page_tries_reaches_this_machine_by_no_way_not_even_by_udp(host: str, listener: Listener) -> None:
    with browser(private=False) as (driver, guard):
        driver.get(f"data:text/html,{quote(PAGE.replace('AT', f'{host}:{listener.port}'))}")
        time.sleep(3)
        assert host.strip("[]") in guard.refused, "the guard was asked"
    assert listener.heard == []


def test_a_browser_of_ours_asks_for_nothing_by_itself(listener: Listener) -> None:
    with browser(private=False) as (driver, guard):
        driver.get("about:blank")
        time.sleep(6)
        assert set(guard.refused) <= {"nowhere.invalid"}
