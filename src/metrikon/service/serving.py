"""Serve the application with a production server, and stop it gracefully."""

from __future__ import annotations

import logging
import signal
import threading
from collections.abc import Callable
from types import FrameType
from typing import Any

from flask import Flask
from waitress.server import create_server

from metrikon.app.assemble import App
from metrikon.service import status
from metrikon.service.channels import IDLE, MOST, allow_files, end, guard, port_of, run
from metrikon.service.early import early_of
from metrikon.service.secure import SecureDoor
from metrikon.service.web import create

log = logging.getLogger("metrikon.service")


class Server:
    """The service on its address. `run` blocks until a signal or `stop`."""

    def __init__(self, app: App) -> None:
        self.app = app
        self._thread: threading.Thread | None = None
        self._looking: threading.Thread | None = None
        settings = app.settings
        allow_files()
        flask = create(app)
        self._secure = SecureDoor(settings) if settings.tls_certificate else None
        self._server = create_server(
            flask,
            host=settings.host,
            port=settings.port,
            threads=settings.threads,
            ident=None,
            max_request_body_size=settings.max_bytes + 200_000,
            channel_timeout=IDLE,
            cleanup_interval=2,
            connection_limit=MOST,
            **_behind(settings.trusted_proxy),
        )
        guard(self._server, trusted=settings.trusted_proxy, early=early_of(app))
        self.secure_url = f"https://{settings.host}:{self._secure.port}" if self._secure is not None else ""
        self._health = _health(app) if settings.health_port else None
        self.port = port_of(self._server)
        self.url = f"http://{settings.host}:{self.port}"
        app.listens_at = self.url if settings.port == 0 else ""

    def run(self, ready: Callable[[], None] = lambda: None) -> None:
        """Start to work, serve, and on SIGTERM or SIGINT let running steps finish."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, _stop)
        try:
            self._begin()
            ready()
            run(self._server)
        except (SystemExit, KeyboardInterrupt):
            log.info("stopping")
        finally:
            for number in (signal.SIGTERM, signal.SIGINT):
                signal.signal(number, signal.SIG_IGN)
            self.close()

    def start(self) -> threading.Thread:
        """As `run`, in a thread of its own: for tests and the demo."""
        self._begin()
        self._thread = threading.Thread(target=run, args=(self._server,), name="http", daemon=True)
        self._thread.start()
        return self._thread

    def _begin(self) -> None:
        self.app.start()
        if self._secure is not None:
            self._secure.start(self._server)
        if self._health is not None:
            self._looking = threading.Thread(target=run, args=(self._health,), name="health", daemon=True)
            self._looking.start()

    def close(self) -> None:
        """Answer no more, finish what is running, let go."""
        self.app.engine.end_soon()
        if self._secure is not None:
            self._secure.accept_no_more()
        end(self._server, self._thread)
        if self._secure is not None:
            self._secure.stop()
        if self._health is not None:
            end(self._health, self._looking)
        self.app.close()


def _health(app: App) -> Any:
    """A server of its own that answers how the service is and nothing else, whatever crowds the other."""
    flask = Flask("metrikon.health")
    flask.register_blueprint(status.blueprint(app))
    made = create_server(flask, host=app.settings.host, port=app.settings.health_port, threads=1, ident=None, channel_timeout=5, cleanup_interval=2)
    guard(made, trusted="")
    return made


def _behind(proxy: str) -> dict[str, Any]:
    """What is believed of a proxy that is trusted: who asks, and whether over TLS."""
    if not proxy:
        return {}
    headers = {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"}
    return {"trusted_proxy": proxy, "trusted_proxy_headers": headers, "clear_untrusted_proxy_headers": True}


def _stop(number: int, frame: FrameType | None) -> None:
    raise SystemExit(0)
