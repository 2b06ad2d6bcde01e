"""Browsers end with the service that began them, also where it is killed; what is left all the same is found at the next start."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from metrikon.connections.remains import MARK, OWNER, PREFIX, end_remains
from tests.helpers import eventually

BEGINS = """
import sys, time
from metrikon.connections.browser import browser
with browser(private=True) as (driver, guard):
    print(driver.capabilities["chrome"]["userDataDir"], flush=True)
    time.sleep(600)
"""


def marked(folder: str) -> list[int]:
    """The processes of a browser with this folder."""
    found = []
    for place in Path("/proc").iterdir():
        try:
            if place.name.isdigit() and f"{MARK}={folder}".encode() in (place / "environ").read_bytes().split(b"\0"):
                found.append(int(place.name))
        except OSError:
            continue
    return found


def test_a_browser_and_its_driver_end_when_their_service_is_killed() -> None:
    service = subprocess.Popen([sys.executable, "-c", BEGINS], stdout=subprocess.PIPE, text=True)
    assert service.stdout is not None
    folder = service.stdout.readline().strip()
    assert PREFIX in folder
    assert len(marked(folder)) >= 2  # the driver, and the browser with its own processes
    os.kill(service.pid, signal.SIGKILL)
    service.wait()
    service.stdout.close()
    assert eventually(lambda: marked(folder) == [], 10)
    assert Path(folder).is_dir()
    assert eventually(lambda: end_remains() >= 0 and not Path(folder).exists(), 10)


def test_what_is_left_of_a_killed_service_is_ended_at_the_next_start_and_what_others_use_is_let_be() -> None:
    left, used, other = (Path(tempfile.mkdtemp(prefix=PREFIX)) for _ in range(3))
    began = Path(f"/proc/{os.getpid()}/stat").read_text().rpartition(")")[2].split()[19]
    (left / OWNER).write_text("999999999 1")  # no such process
    (used / OWNER).write_text(f"{os.getpid()} {began}")
    (other / OWNER).write_text(f"{os.getpid()} 1")  # its number is that of another process now
    remains = [subprocess.Popen(["sleep", "600"], env={**os.environ, MARK: str(each)}) for each in (left, used, other)]
    try:
        assert end_remains() >= 2
        assert remains[0].wait(5) == -signal.SIGKILL
        assert remains[2].wait(5) == -signal.SIGKILL
        assert remains[1].poll() is None
        assert [each.exists() for each in (left, used, other)] == [False, True, False]
    finally:
        remains[1].kill()
        remains[1].wait()
        (used / OWNER).unlink()
        used.rmdir()


def test_services_that_start_at_once_remove_what_is_left_together() -> None:
    left = [Path(tempfile.mkdtemp(prefix=PREFIX)) for _ in range(40)]
    for each in left:
        (each / OWNER).write_text("999999999 1")
        for number in range(5):
            (each / f"{number}").mkdir()
    with ThreadPoolExecutor(8) as services:
        for told in [services.submit(end_remains) for _ in range(8)]:
            assert told.result() >= 0
    assert not any(each.exists() for each in left)
