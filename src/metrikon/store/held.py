"""Where a value, or the bytes of a file, stand besides items: in calls of models, in what was let go, in samples, in pages that were fetched."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable, Collection, Iterator

from sqlalchemy import Connection, delete, func, or_, select, update

from metrikon.core.values.exact import loads
from metrikon.store.keeping import FORGOTTEN
from metrikon.store.outside_tables import let_go
from metrikon.store.tables import calls, fetched, items, journal, runs, samples

AT_ONCE = 500  # rows that are read at once
Holds = Callable[[bytes], bool]  # whether some bytes hold what is looked for


def calls_with(connection: Connection, holds: Holds) -> tuple[list[tuple[str, str]], int]:
    """(call, run) of the calls of which question, answer or error holds it; and how many were looked into."""
    found, last, seen = [], "", 0
    query = select(calls.c.id, calls.c.run_id, calls.c.prompt, calls.c.answer, calls.c.error).order_by(calls.c.id).limit(AT_ONCE)
    kept = or_(calls.c.prompt.is_not(None), calls.c.answer.is_not(None), calls.c.error.is_not(None))
    while rows := connection.execute(query.where(calls.c.id > last, kept)).all():
        for row in rows:
            packed = [zlib.decompress(each) for each in (row.prompt, row.answer) if each is not None]
            if any(map(holds, (*packed, (row.error or "").encode()))):
                found.append((str(row.id), str(row.run_id)))
        last, seen = rows[-1].id, seen + len(rows)
    return found, seen


def forget_calls(connection: Connection, ids: Collection[str], about: Collection[str] = ()) -> int:
    """Remove what was asked and answered in some calls, and in all about some files; what it cost stays. How many."""
    gone = 0
    for column, wanted in ((calls.c.id, list(ids)), (calls.c.about, list(about))):
        for at in range(0, len(wanted), AT_ONCE):
            kept = or_(calls.c.prompt.is_not(None), calls.c.answer.is_not(None), calls.c.error.is_not(None))
            held = update(calls).where(column.in_(wanted[at : at + AT_ONCE]), kept)
            gone += int(connection.execute(held.values(prompt=None, answer=None, error=None)).rowcount)
    return gone


def let_go_with(connection: Connection, holds: Holds, hashes: Collection[str]) -> tuple[list[tuple[str, str, str]], int]:
    """(flow, intake, identity) of what was let go and holds it, or is one of some files; and how many were looked into."""
    found, seen = [], 0
    for row in connection.execute(select(let_go)):
        seen += 1
        body = row.body or b""
        told = [row.identity.encode(), row.name.encode(), row.why.encode(), row.data or b"", body]
        if any(map(holds, told)) or (body and hashlib.sha256(body).hexdigest() in hashes):
            found.append((row.flow, row.intake, row.identity))
    return found, seen


def forget_let_go(connection: Connection, keys: Collection[tuple[str, str, str]]) -> int:
    """Remove what it was; that it came stays under a hash of its identity, so that it is not told of anew."""
    for flow, intake, identity in keys:
        known = hashlib.sha256(identity.encode()).hexdigest()
        own = (let_go.c.flow == flow, let_go.c.intake == intake)
        connection.execute(delete(let_go).where(*own, let_go.c.identity == known))
        connection.execute(
            update(let_go).where(*own, let_go.c.identity == identity).values(identity=known, name=FORGOTTEN, why="", data=None, body=None)
        )
    return len(keys)


def samples_with(connection: Connection, holds: Holds, hashes: Collection[str]) -> tuple[list[tuple[str, str]], int]:
    """(flow, name) of the samples that hold it, or are one of some files; and how many were looked into."""
    rows = connection.execute(select(samples)).all()
    return [
        (row.flow, row.name)
        for row in rows
        if row.sha256 in hashes or any(map(holds, (row.file_name.encode(), (row.why or "").encode(), row.data or b"")))
    ], len(rows)


def forget_samples(connection: Connection, keys: Collection[tuple[str, str]]) -> int:
    """Keep samples no longer."""
    for flow, name in keys:
        connection.execute(delete(samples).where(samples.c.flow == flow, samples.c.name == name))
    return len(keys)


def forget_pages(connection: Connection, files: Collection[str]) -> int:
    """Keep pages no longer that were fetched into some files."""
    gone = [row.address for row in connection.execute(select(fetched.c.address, fetched.c.page)) if str(loads(row.page)["file"]) in files]
    for address in gone:
        connection.execute(delete(fetched).where(fetched.c.address == address))
    return len(gone)


def items_naming(connection: Connection, files: Collection[str]) -> set[str]:
    """Items whose runs name some files: as what a large result is kept in, as what a step made, as the document that was read."""
    found: set[str] = set()
    wanted = set(files)
    if not wanted:
        return found
    query = select(runs.c.item_id, journal.c.data).join(runs, runs.c.id == journal.c.run_id)
    for item_id, data in connection.execute(query.where(func.length(journal.c.data) > 64)):
        if item_id not in found and not wanted.isdisjoint(_hashes(bytes(data))):
            found.add(item_id)
    return found


def files_named(connection: Connection, run_ids: Collection[str]) -> set[str]:
    """The files that the journals of some runs name."""
    found: set[str] = set()
    every = list(run_ids)
    for at in range(0, len(every), AT_ONCE):
        for data in connection.execute(select(journal.c.data).where(journal.c.run_id.in_(every[at : at + AT_ONCE]))).scalars():
            found.update(_hashes(bytes(data)))
    return found


def _hashes(data: bytes) -> Iterator[str]:
    """What looks like the hash of a file within JSON: 64 letters of base 16 between quotes."""
    at = data.find(b'"')
    while at >= 0:
        end = data.find(b'"', at + 1)
        if end - at == 65:
            told = data[at + 1 : end]
            if not told.strip(b"0123456789abcdef"):
                yield told.decode()
        at = end


def in_use(connection: Connection, files: Collection[str], but: Collection[str]) -> set[str]:
    """Files of these that items, samples or journals of others than some runs hold on to."""
    wanted = set(files)
    held: set[str] = set(connection.execute(select(items.c.sha256)).scalars()) | set(connection.execute(select(samples.c.sha256)).scalars())
    kept = wanted & held
    open_ones = select(journal.c.run_id, journal.c.data).where(func.length(journal.c.data) > 64)
    for run_id, data in connection.execute(open_ones):
        if run_id not in but:
            kept |= wanted.intersection(_hashes(bytes(data)))
    return kept
