"""Browsers end with the service, also where it is killed: one that watches ends them then, and what is left all the same is found at the next start."""

from __future__ import annotations

import contextlib
import logging
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

log = logging.getLogger("metrikon.connections")
PREFIX = "metrikon-browser-"  # of the folder of a browser
MARK = "METRIKON_BROWSER"  # in the environment of a browser and its driver: their folder, by which they are known as ours
OWNER = "owner"  # in that folder: the process that began it
UNSAID = 3600.0  # seconds for which a folder without an owner is let be: its owner is written at once, unless the process was cut off just then
PATIENCE = 5.0  # seconds that the watcher is waited for

# waits until its input is closed, which is when its parent has ended in whatever way; then ends what has the mark in its environment
_WATCH = """
read -r _
for each in /proc/[0-9]*; do
  if tr '\\0' '\\n' < "$each/environ" 2>/dev/null | grep -qxF -- "$1"; then
    kill -9 "${each#/proc/}" 2>/dev/null
  fi
done
"""


@contextmanager
def folder_of_a_browser() -> Iterator[Path]:
    """A folder for a browser, which says who began it; removed afterwards."""
    with tempfile.TemporaryDirectory(prefix=PREFIX, ignore_cleanup_errors=True) as folder:
        Path(folder, OWNER).write_text(f"{os.getpid()} {_began(os.getpid())}")
        yield Path(folder)


def marked(folder: Path) -> dict[str, str]:
    """The environment for a browser with this folder, and for its driver."""
    return {**os.environ, MARK: str(folder)}


@contextmanager
def ended_with_us(folder: Path) -> Iterator[None]:
    """As long as it lasts, a browser with this folder and its driver are ended when we are; and at its end, should they still be there."""
    watcher = subprocess.Popen(  # of the session of its own, so that a signal to ours does not end it first
        ["/bin/sh", "-c", _WATCH, "metrikon-watch", f"{MARK}={folder}"],
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    try:
        yield
    finally:
        assert watcher.stdin is not None
        watcher.stdin.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            watcher.wait(PATIENCE)


def end_remains() -> int:
    """End browsers of ours whose service is gone, and remove their folders; how many folders there were. Those of a service that runs are let be."""
    count = 0
    for folder in Path(tempfile.gettempdir()).glob(f"{PREFIX}*"):
        if not _is_ours(folder) or _runs(folder):
            continue
        for process in _processes(f"{MARK}={folder}"):
            with contextlib.suppress(OSError):
                os.kill(process, signal.SIGKILL)
        with contextlib.suppress(OSError):  # another service that starts now removes it as well; what stays is found at the next start
            _remove(folder)
        count += 1
    if count:
        log.warning("browsers of a service that was killed: %s ended", count)
    return count


def _remove(folder: Path) -> None:
    """Remove a folder, who owned it last: what a process that is still ending keeps from going is found by that at the next start."""
    for each in folder.iterdir():
        if each.is_dir() and not each.is_symlink():
            shutil.rmtree(each, ignore_errors=True)
        elif each.name != OWNER:
            each.unlink(missing_ok=True)
    if [each.name for each in folder.iterdir()] in ([OWNER], []):
        shutil.rmtree(folder, ignore_errors=True)


def _is_ours(folder: Path) -> bool:
    """Whether a folder is of this user, and not led elsewhere by a link."""
    try:
        stat = folder.lstat()
    except OSError:
        return False
    return folder.is_dir() and not folder.is_symlink() and stat.st_uid == os.geteuid()


def _runs(folder: Path) -> bool:
    """Whether the process that began a browser still runs: the same one, and no other under its number. One that was made just now may not say it yet."""
    try:
        process, _, began = (folder / OWNER).read_text().partition(" ")
        return bool(began) and _began(int(process)) == began
    except ValueError:
        return False
    except OSError:
        with contextlib.suppress(OSError):
            return time.time() - folder.stat().st_mtime < UNSAID
        return False


def _began(process: int) -> str:
    """When a process began, in ticks since the machine was started (proc(5), field 22); empty where there is none."""
    try:
        told = Path(f"/proc/{process}/stat").read_text()
    except OSError:
        return ""
    return told.rpartition(")")[2].split()[19]


def _processes(word: str) -> Iterator[int]:
    """Processes that have this in their environment."""
    for place in Path("/proc").iterdir():
        if not place.name.isdecimal():
            continue
        with contextlib.suppress(OSError):
            if word.encode() in (place / "environ").read_bytes().split(b"\0"):
                yield int(place.name)
