"""Showing a way in once: a browser of the service that a person works through pictures; what is done in it is kept as verbs."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Any

from metrikon.core.entering.recording import Recording
from metrikon.core.entering.way import Place, SignIn
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.engine.ways import Ways
from metrikon.ports.clock import Clock
from metrikon.ports.screen import ScreenStopped

IDLE = 15 * 60_000  # milliseconds after which one that nobody works on is ended
PATIENCE = 10.0


@dataclass
class Show:
    """One that is being shown: its screen, what was kept, and what was last pointed at."""

    recording: Recording
    screen: Any  # connections.screen.BrowserScreen
    stack: ExitStack
    at: int
    pointed: Mapping[str, Any] | None = None
    said: str = ""
    lock: threading.Lock = field(default_factory=threading.Lock)


class Showing:
    """At most one is shown at a time: whoever begins another one ends the one before when nobody has worked on it for a while."""

    def __init__(self, ways: Ways, clock: Clock, file: Callable[[str], bytes]) -> None:
        self._ways, self._clock, self._file = ways, clock, file
        self._shown: dict[str, Show] = {}
        self._lock = threading.Lock()

    def begin(self, connection: str, path: str, values: Mapping[str, Any]) -> tuple[str, Show]:
        """Open a program. Raises `NotNow` while another is shown, `FetchFailed`, `ScreenStopped`."""
        with self._lock:
            self._end_idle()
            if self._shown:
                raise NotNow("Another way in is being shown just now. End that one first, or wait until nobody works on it.")
            with ExitStack() as stack:
                screen = stack.enter_context(self._ways.screen(connection, PATIENCE))
                made = Show(Recording(connection, values), screen, stack.pop_all(), self._clock.now())
            id_ = self._clock.new_id()
            self._shown[id_] = made
        try:
            self._open(made, path)
        except ScreenStopped:
            self.end(id_)
            raise
        return id_, made

    def get(self, id_: str) -> Show:
        """One that is shown. Raises `NotThere`."""
        found = self._shown.get(id_)
        if found is None:
            raise NotThere("It is shown no longer. Begin anew.")
        found.at = self._clock.now()
        return found

    def act(self, id_: str, kind: str, given: Mapping[str, Any]) -> Show:
        """Do something on the screen, and keep it. What the screen does not take is told in `said`. Raises `NotThere`, ValueError."""
        shown = self.get(id_)
        acts: dict[str, Callable[[Show, Mapping[str, Any]], None]] = {
            "point": self._point,
            "open": lambda show, said: self._open(show, str(said.get("text", ""))),
            "sign_in": self._sign_in,
            "fill": self._fill,
            "choose": self._choose,
            "press": self._press,
            "attach": self._attach,
            "expect": lambda show, said: show.recording.add("expect", str(said.get("text", ""))),
            "read_back": lambda show, said: show.recording.add(
                "read_back", {str(said.get("label", "")): show.recording.said(str(said.get("text", "")))}
            ),
            "rows": lambda show, said: show.recording.begin_rows(str(said.get("text", ""))),
            "rows_end": lambda show, said: show.recording.end_rows(),
            "look_up": self._look_up,
            "there": lambda show, said: show.recording.mark("there", str(said.get("text", ""))),
            "none": lambda show, said: show.recording.mark("none", str(said.get("text", ""))),
            "look_up_end": lambda show, said: show.recording.end_look_up(),
            "undo": lambda show, said: show.recording.undo(),
        }
        if kind not in acts:
            raise ValueError(f"There is no {kind!r}. Known: {', '.join(acts)}.")
        with shown.lock:
            shown.said = ""
            try:
                acts[kind](shown, given)
            except ScreenStopped as error:
                shown.said = str(error)
        return shown

    def end(self, id_: str) -> None:
        """Close the browser; nothing that is not kept as a way in stays."""
        found = self._shown.pop(id_, None)
        if found is not None:
            found.stack.close()

    def close(self) -> None:
        """End all."""
        for id_ in list(self._shown):
            self.end(id_)

    def _end_idle(self) -> None:
        for id_, each in list(self._shown.items()):
            if self._clock.now() - each.at > IDLE:
                self.end(id_)

    # ---- what is done

    def _open(self, show: Show, path: str) -> None:
        show.screen.open(path)
        show.pointed = None
        show.recording.add("open", path)

    def _look_up(self, show: Show, given: Mapping[str, Any]) -> None:
        show.recording.begin_look_up()
        self._open(show, str(given.get("text", "")))
        known = show.recording.signing()
        if known is not None:  # whoever looks comes before whoever enters, and signs in
            show.recording.add("sign_in", known)

    def _point(self, show: Show, given: Mapping[str, Any]) -> None:
        show.pointed = show.screen.at(float(given["x"]), float(given["y"]))

    def _sign_in(self, show: Show, given: Mapping[str, Any]) -> None:
        labels = show.screen.signing()
        if labels is None:
            raise ScreenStopped("No form for signing in shows.")
        show.screen.sign_in(SignIn(**labels))
        show.recording.add("sign_in", labels)

    def _fill(self, show: Show, given: Mapping[str, Any]) -> None:
        place, text = self._place(show), str(given.get("text", ""))
        show.screen.fill(place, text)
        show.recording.add("fill", {"in": _short(place), "with": show.recording.said(text)})

    def _choose(self, show: Show, given: Mapping[str, Any]) -> None:
        place, text, otherwise = self._place(show), str(given.get("text", "")), str(given.get("otherwise", ""))
        chosen = show.screen.choose(place, text, otherwise)
        said: dict[str, Any] = {"in": _short(place), "option": show.recording.said(str(given.get("value") or chosen))}
        show.recording.add("choose", said | ({"otherwise": otherwise} if otherwise else {}))

    def _press(self, show: Show, given: Mapping[str, Any]) -> None:
        place, last = self._place(show), bool(given.get("last"))
        if not last:
            show.screen.press(place)
        show.pointed = None
        show.recording.add("press", {"on": _short(place), "last": True} if last else _short(place))

    def _attach(self, show: Show, given: Mapping[str, Any]) -> None:
        place, name = self._place(show), str(given.get("text", ""))
        sha256 = show.recording.values.get(name)
        try:
            data = self._file(str(sha256))
        except (KeyError, ValueError) as error:
            raise ScreenStopped(f"The sample has no file under {name!r}.") from error
        show.screen.attach(place, "paper.pdf", data)
        show.recording.add("attach", {"in": _short(place), "file": f"${{{name}}}"})

    def _place(self, show: Show) -> Place:
        if not show.pointed or "place" not in show.pointed:
            raise ScreenStopped("Point at something on the picture first.")
        place = Place(**show.pointed["place"])
        if show.recording.rows is not None and show.pointed.get("in_row") and place.row == "":
            return place.model_copy(update={"row": "last"})  # what is shown for the first row is done for each that is added
        return place


def _short(place: Place) -> Any:
    """A place as a way in says it: its label alone where that is enough."""
    told = place.model_dump(exclude_defaults=True)
    return told["label"] if set(told) == {"label"} else told
