"""A real WebDAV server for tests, over a folder."""

from __future__ import annotations

import os
import threading
import time
from pathlib import Path
from typing import Any

from cheroot import wsgi
from wsgidav.fs_dav_provider import FileResource, FilesystemProvider
from wsgidav.wsgidav_app import WsgiDAVApp

USER, SECRET = "ada", "saffron-17"


class _Exact(FileResource):  # type: ignore[misc]
    """Tags that tell two writes within a second apart."""

    def get_etag(self) -> str:
        return f"{os.stat(self._file_path).st_mtime_ns}-{os.stat(self._file_path).st_size}"


class _Provider(FilesystemProvider):  # type: ignore[misc]
    def get_resource_inst(self, path: str, environ: Any) -> Any:
        found = super().get_resource_inst(path, environ)
        return _Exact(path, environ, found._file_path) if isinstance(found, FileResource) else found


class DavServer:
    """A server on loopback, over a folder."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.hidden = True  # whether files whose names begin with a point may be put there
        self.ails = ""  # "full", "over its quota", "read-only", "slow", "its answer lost": of what is put there
        root.mkdir(parents=True, exist_ok=True)
        config = {
            "provider_mapping": {"/": _Provider(str(root))},
            "simple_dc": {"user_mapping": {"*": {USER: {"password": SECRET}}}},
            "verbose": 0,
            "logging": {"enable": False},
            "lock_storage": True,
        }
        self._app = WsgiDAVApp(config)
        self._begin(0)
        self.url = f"http://127.0.0.1:{self.port}"

    def _begin(self, port: int) -> None:
        self.server = wsgi.Server(("127.0.0.1", port), self._answer)
        self.server.prepare()
        self.port: int = self.server.bind_addr[1]
        self._thread = threading.Thread(target=self.server.serve, daemon=True)
        self._thread.start()

    def _answer(self, environ: Any, start: Any) -> Any:
        if not self.hidden and environ["REQUEST_METHOD"] == "PUT" and "/." in environ["PATH_INFO"]:
            start("403 Forbidden", [("Content-Length", "0")])
            return [b""]
        if environ["REQUEST_METHOD"] != "PUT" or not self.ails:
            return self._app(environ, start)
        if self.ails in ("full", "over its quota", "read-only"):
            start("403 Forbidden" if self.ails == "read-only" else "507 Insufficient Storage", [("Content-Length", "0")])
            return [b""]
        if self.ails == "slow":
            time.sleep(1.5)
            return self._app(environ, start)
        list(self._app(environ, lambda *_: None))  # it is done, and nobody hears of it
        start("502 Bad Gateway", [("Content-Length", "0")])
        return [b""]

    def begin(self) -> None:
        """Answer again, where it did before."""
        self._begin(self.port)

    def end(self) -> None:
        """Answer no more."""
        self.server.stop()
        self._thread.join(5)
