"""Work over many documents that nobody waits for: one at a time, each in a thread of its own; it can be stopped between two documents and goes on later."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable

from metrikon.ports.model import ModelDown, OverLimit

log = logging.getLogger("metrikon.background")

Work = Callable[[threading.Event], bool]  # whether it came to its end; it looks now and then whether it is to stop
Ended = Callable[[str, str], None]  # its state (done, stopped, failed), and the problem


class Background:
    """Threads for such work, by the id of what they do."""

    def __init__(self) -> None:
        self._stops: dict[str, threading.Event] = {}
        self._threads: list[threading.Thread] = []
        self._one = threading.Lock()

    def start(self, id_: str, work: Work, ended: Ended) -> None:
        """Begin; `ended` is told how it ended."""
        stop = self._stops[id_] = threading.Event()
        thread = threading.Thread(target=self._run, args=(id_, work, ended, stop), name=f"background {id_}", daemon=True)
        self._threads = [each for each in self._threads if each.is_alive()] + [thread]
        thread.start()

    def stop(self, id_: str) -> None:
        """Stop after the document that it is at."""
        if id_ in self._stops:
            self._stops[id_].set()

    def close(self) -> None:
        """Stop everything, and wait for the documents that are worked on."""
        for stop in self._stops.values():
            stop.set()
        for thread in self._threads:
            thread.join(30)

    def _run(self, id_: str, work: Work, ended: Ended, stop: threading.Event) -> None:
        state, problem = "done", ""
        try:
            with self._one:
                if not work(stop):
                    state = "stopped"
        except (ModelDown, OverLimit) as error:
            state, problem = "failed", str(error)
        except Exception as error:
            log.exception("%s", id_)
            state, problem = "failed", f"An error of the service ended it: {type(error).__name__}. The log has the rest; going on may help."
        ended(state, problem)
