"""Certificates for tests: an authority of one's own, what it has signed, and a stranger."""

from __future__ import annotations

import ssl
import subprocess
from pathlib import Path


def authority(folder: Path) -> dict[str, Path]:
    """Files by their names: of the authority (ca), a server and a client that it has signed, and a stranger, each as NAME.pem and NAME.key."""

    def run(*command: str) -> None:
        subprocess.run(["openssl", *command], check=True, capture_output=True, cwd=folder)

    run("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=Garden", "-keyout", "ca.key", "-out", "ca.pem")
    for name in ("server", "client"):
        (folder / "names").write_text("subjectAltName=IP:127.0.0.1\n")
        run("req", "-newkey", "rsa:2048", "-nodes", "-subj", f"/CN={name}", "-keyout", f"{name}.key", "-out", f"{name}.csr")
        signing = ("x509", "-req", "-in", f"{name}.csr", "-CA", "ca.pem", "-CAkey", "ca.key", "-CAcreateserial", "-days", "2", "-extfile", "names")
        run(*signing, "-out", f"{name}.pem")
    run("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=stranger", "-keyout", "stranger.key", "-out", "stranger.pem")
    return {each.stem + each.suffix: each for each in folder.iterdir()}


def serving(made: dict[str, Path], name: str = "server") -> ssl.SSLContext:
    """TLS of a server with one of these."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(made[f"{name}.pem"], made[f"{name}.key"])
    return context


def self_signed(folder: Path) -> tuple[Path, Path]:
    """A certificate for this machine that nobody has signed, and its key."""
    made, key = folder / "a.pem", folder / "a.key"
    said = ["-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=IP:127.0.0.1"]
    subprocess.run(["openssl", "req", *said, "-keyout", str(key), "-out", str(made)], check=True, capture_output=True)
    return made, key
