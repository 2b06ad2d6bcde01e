"""A folder on a server (WebDAV, RFC 4918): files that have settled are taken in once, then kept or moved as the flow says."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from metrikon.connections import webdav
from metrikon.connections.fetching import FetchFailed
from metrikon.core.flows.coming import OPENED, Gathered
from metrikon.core.flows.form import ConnectionName
from metrikon.intakes.folder import TAKEN
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing


class RemoteFolder(Gathered):
    """Files that appear in a folder of a server that speaks WebDAV. Taken when settled, once each."""

    connection: ConnectionName = Field(..., description="Name of a connection to the server (https://…).")
    path: str = Field(..., min_length=1, max_length=1000, description="The folder, after the address of the connection.")
    after: Literal["keep", "move"] = Field("keep", description="What becomes of a file that was taken: kept, or moved to `taken`.")
    settled: float = Field(5.0, ge=0, le=3600, description="Seconds a file must have stayed the same.")
    every: float = Field(60.0, ge=1, le=86_400, description="Seconds after which it is looked at anew.")
    opened: bool = Field(False, description=OPENED)


class RemoteSource(Quiet):
    """The files of a folder. Each is told by its name and its tag, so that what changed is another one."""

    def __init__(self, said: RemoteFolder, here: Here) -> None:
        self.said, self._calling, self._largest = said, here.calling, here.largest
        self.every = min(said.every, max(said.settled, 1.0)) if said.settled else said.every
        self._seen: dict[str, tuple[str, int]] = {}

    def test(self) -> str:
        count = len(self._files())
        return f"The folder {self.said.path} of {self.said.connection} can be read; {count} file{'s are' if count != 1 else ' is'} there."

    def there(self) -> Iterator[Thing]:
        yield from sorted((self._thing(each) for each in self._files()), key=lambda each: -each.at)

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        now = self._files()
        for each in sorted(now, key=lambda file: (file.at, file.name)):
            before = self._seen.get(each.name)
            if before is None or before[0] != each.tag or before[1] > moment:
                self._seen[each.name] = before = (each.tag, moment)
            if moment - before[1] >= self.said.settled * 1000:
                yield self._thing(each)
        for gone in self._seen.keys() - {each.name for each in now}:
            del self._seen[gone]

    def get(self, thing: Thing) -> list[Piece]:
        try:
            data = webdav.bytes_of(self._calling.fetch, self.said.connection, self.said.path, thing.name, self._largest)
        except FetchFailed as error:
            raise IntakeFailed(str(error), wait=error.wait, gone=error.status in (404, 410)) from error
        return [Piece(thing.name, data, within="each" if self.said.opened else "")]

    def settle(self, thing: Thing, *, taken: bool) -> None:
        if not taken or self.said.after != "move":
            return
        try:
            address = self._calling.connections.at(self.said.connection, "")
            moved = webdav.move(self._calling.fetch, self.said.connection, address, self.said.path, thing.name, TAKEN)
        except FetchFailed as error:
            raise IntakeFailed(f"{thing.name} was taken but could not be moved: {error}") from error
        if not moved:
            raise IntakeFailed(f"{thing.name} was taken but could not be moved: one of this name is in {TAKEN} already.")

    def _files(self) -> list[webdav.DavFile]:
        try:
            every = list(webdav.files(self._calling.fetch, self.said.connection, self.said.path))
        except FetchFailed as error:
            raise IntakeFailed(str(error), wait=error.wait) from error
        return [each for each in every if not each.name.startswith((".", "~"))]

    def _thing(self, file: webdav.DavFile) -> Thing:
        return Thing(f"{file.name}:{file.tag}", file.name, file.at, file.size)


def _place(said: RemoteFolder, home: Path) -> str:
    return f"{said.connection}, {said.path}"


KIND = IntakeKind(
    "remote_folder",
    RemoteFolder,
    lambda said: f"files in the folder {said.path} of {said.connection}",
    _place,
    RemoteSource,
    reaches=True,
    gives="Nothing: a file is known by `item.name`, `item.size` and `item.at`.",
)
