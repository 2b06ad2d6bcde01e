"""What is the service's own in its folder: nobody else reads it, and no flow touches it."""

from __future__ import annotations

import os
from pathlib import Path

DATABASE = "metrikon.db"
NAMES = (
    "files",
    "derived",
    "lists",
    "local.json",
    "passwords.json",
    "passwords.new",
    "links.key",
    "secret.key",
    "secret.key.new",
    "models.yaml",
    "sign-in.txt",
)


def is_own(name: str) -> bool:
    """Whether something of this name, directly in the folder of the service, is its own; what it keeps beside its database is, too."""
    known = name.casefold()
    return known in NAMES or known.startswith(DATABASE)


def opened(home: Path) -> Path:
    """The folder of the service, made when it is not there. From here on what this process makes is its user's alone; what was made before becomes so."""
    os.umask(0o077)
    home.mkdir(parents=True, exist_ok=True)
    place = home.resolve()
    for entry in os.scandir(place):
        if is_own(entry.name) and not entry.is_symlink() and entry.stat().st_uid == os.getuid():
            os.chmod(entry.path, 0o700 if entry.is_dir() else 0o600)
    return place
