"""Serve the application with a production server, and stop it gracefully."""

from __future__ import annotations

import logging
import signal
import threading
from collections.abc import Callable
from types import FrameType

from waitress.server import create_server

from metrikon.app.assemble import App
from metrikon.service.web import create

log = logging.getLogger("metrikon.service")


class Server:
    """The service on its address. `run` blocks until a signal or `stop`."""

    def __init__(self, app: App) -> None:
        self.app = app
        self._closing = False
        self._thread: threading.Thread | None = None
        settings = app.settings
        self._server = create_server(
            create(app),
            host=settings.host,
            port=settings.port,
            threads=settings.threads,
            ident=None,
            max_request_body_size=settings.max_bytes + 200_000,
            channel_timeout=60,
            connection_limit=500,
        )
        self.port = int(self._server.effective_port)
        self.url = f"http://{settings.host}:{self.port}"

    def run(self, ready: Callable[[], None] = lambda: None) -> None:
        """Start to work, serve, and on SIGTERM or SIGINT let running steps finish."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, _stop)
        try:
            self.app.start()
            ready()
            self._server.run()
        except (SystemExit, KeyboardInterrupt):
            log.info("stopping")
        finally:
            for number in (signal.SIGTERM, signal.SIGINT):
                signal.signal(number, signal.SIG_IGN)
            self.close()

    def start(self) -> threading.Thread:
        """As `run`, in a thread of its own: for tests and the demo."""
        self.app.start()
        self._thread = threading.Thread(target=self._serve, name="http", daemon=True)
        self._thread.start()
        return self._thread

    def _serve(self) -> None:
        try:
            self._server.run()
        except OSError:
            if not self._closing:  # else the sockets were closed under the loop, which is how it is told to end
                raise

    def close(self) -> None:
        """Answer no more, finish what is running, let go."""
        self._closing = True
        self._server.close()
        if self._thread is not None:
            self._thread.join(0.5)
        self.app.close()


def _stop(number: int, frame: FrameType | None) -> None:
    raise SystemExit(0)
