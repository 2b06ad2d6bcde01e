"""Judgements as stored, the anchors of a version of criteria, and what judging again came to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from metrikon.core.judging.criteria import Anchor
from metrikon.core.values.exact import dumps, loads
from metrikon.core.values.text import fold
from metrikon.store.tables import anchors, items, judgements, questions, rejudged, rejudgings

LARGEST_GIVEN = 64_000  # bytes of a text or record that was judged; a larger one is not kept twice
MOST = 5000  # judgements in one list


def put(connection: Connection, row: Mapping[str, Any], given: Mapping[str, Any], result: Mapping[str, Any]) -> None:
    """Keep a judgement; one of the same step of the same run gives way to it. `given`: what was judged; `result`: what came of it."""
    data = dumps(given)
    values = {**row, "given": data if len(data) <= LARGEST_GIVEN else b"{}", "result": dumps(result)}
    statement = upsert(judgements).values(values)
    changed = {name: statement.excluded[name] for name in values if name not in ("id", "run_id", "path")}
    connection.execute(statement.on_conflict_do_update(index_elements=["run_id", "path"], set_=changed))


def get(connection: Connection, judgement_id: str) -> dict[str, Any] | None:
    """A judgement, or None."""
    found = _rows(connection, judgements.c.id == judgement_id)
    return found[0] if found else None


def of_run(connection: Connection, run_id: str) -> list[dict[str, Any]]:
    """The judgements of a run, in the order in which they were given."""
    return sorted(_rows(connection, judgements.c.run_id == run_id), key=lambda row: str(row["id"]))


def listed(connection: Connection, flow: str, step: str = "", search: str = "", most: int = MOST) -> list[dict[str, Any]]:
    """The newest judgement of each item at each place of a flow, the best first."""
    newest = select(func.max(judgements.c.id)).where(judgements.c.flow == flow).group_by(judgements.c.item_id, judgements.c.path)
    conditions = [judgements.c.id.in_(newest), judgements.c.step == step if step else True]
    rows = _rows(connection, *conditions)
    wanted = fold(search)
    return [each for each in rows if not wanted or wanted in fold(_words(each))][:most]


def _words(row: Mapping[str, Any]) -> str:
    """What of a judgement is looked through."""
    marks = row["result"]["marks"]
    told = (f"{each['reason']} {(each['evidence'] or {}).get('quote', '')}" for each in marks)
    return " ".join((str(row["item_name"]), str(row["result"]["outcome"]), str(row["answer"] or ""), *told))


def _rows(connection: Connection, *conditions: Any) -> list[dict[str, Any]]:
    """With the name of the item, and what a person answered where one was asked."""
    answered = select(questions.c.run_id, questions.c.path, questions.c.answer, questions.c.answered_by).where(questions.c.state == "answered")
    told = answered.subquery()
    query = select(judgements, items.c.name.label("item_name"), told.c.answer, told.c.answered_by)
    query = query.join(items, items.c.id == judgements.c.item_id)
    query = query.outerjoin(told, (told.c.run_id == judgements.c.run_id) & (told.c.path == judgements.c.path))
    rows = connection.execute(query.where(*conditions).order_by(judgements.c.total.desc(), judgements.c.id)).mappings()
    return [{**row, "given": loads(row["given"]), "result": loads(row["result"])} for row in rows]


def correct(connection: Connection, judgement_id: str, result: Mapping[str, Any], by: str, comment: str, at: int) -> None:
    """Set a judgement right."""
    values = {"result": dumps(result), "total": int(result["total"]), "corrected_at": at, "corrected_by": by, "comment": comment}
    connection.execute(update(judgements).where(judgements.c.id == judgement_id).values(values))


def freeze(connection: Connection, row: Mapping[str, Any], chosen: Sequence[Anchor]) -> None:
    """Keep a set of anchors; from now on it is the one that is shown."""
    connection.execute(insert(anchors).values({**row, "anchors": msgspec.json.encode(chosen)}))


def anchors_of(connection: Connection, flow: str, criteria: str) -> tuple[Anchor, ...]:
    """The anchors of a version of the criteria; none where none were chosen."""
    row = frozen(connection, flow, criteria)
    return row["anchors"] if row else ()


def frozen(connection: Connection, flow: str, criteria: str) -> dict[str, Any] | None:
    """The set of anchors that is shown, with when and by whom it was chosen; None without one."""
    query = select(anchors).where(anchors.c.flow == flow, anchors.c.criteria == criteria).order_by(anchors.c.id.desc()).limit(1)
    row = connection.execute(query).mappings().first()
    return {**row, "anchors": unpacked(row["anchors"])} if row else None


def unpacked(data: bytes) -> tuple[Anchor, ...]:
    """Anchors from JSON."""
    return msgspec.json.decode(data, type=tuple[Anchor, ...])


# ---- judging again


def begin(connection: Connection, row: Mapping[str, Any], chosen: Sequence[Anchor], ids: Sequence[str]) -> None:
    """Keep what is to be judged again."""
    connection.execute(insert(rejudgings).values({**row, "anchors": msgspec.json.encode(chosen), "judgements": dumps(list(ids))}))


def change(connection: Connection, rejudging_id: str, **columns: Any) -> None:
    """Change columns of what is judged again."""
    connection.execute(update(rejudgings).where(rejudgings.c.id == rejudging_id).values(columns))


def rejudging(connection: Connection, rejudging_id: str) -> dict[str, Any] | None:
    """What is judged again, its anchors, and what each has come to; None where there is none."""
    row = connection.execute(select(rejudgings).where(rejudgings.c.id == rejudging_id)).mappings().first()
    if row is None:
        return None
    found = connection.execute(select(rejudged.c.judgement_id, rejudged.c.result).where(rejudged.c.rejudging_id == rejudging_id))
    done = {str(id_): loads(result) for id_, result in found}
    return {**row, "anchors": unpacked(row["anchors"]), "judgements": loads(row["judgements"]), "done": done}


def put_rejudged(connection: Connection, rejudging_id: str, judgement_id: str, result: Mapping[str, Any]) -> None:
    """Keep what a document came to, judged again; once."""
    row = {"rejudging_id": rejudging_id, "judgement_id": judgement_id, "result": dumps(result)}
    connection.execute(upsert(rejudged).values(row).on_conflict_do_nothing())


def interrupted(connection: Connection) -> None:
    """What was judged again when the service ended is stopped; it can go on."""
    connection.execute(update(rejudgings).where(rejudgings.c.state == "running").values(state="stopped"))


# ---- forgetting


def forget_runs(connection: Connection, run_ids: Sequence[str]) -> int:
    """Remove judgements of runs, and what they came to when they were judged again; how many. Anchors that were chosen stay."""
    gone = select(judgements.c.id).where(judgements.c.run_id.in_(run_ids))
    connection.execute(delete(rejudged).where(rejudged.c.judgement_id.in_(gone)))
    return int(connection.execute(delete(judgements).where(judgements.c.run_id.in_(run_ids))).rowcount)


def forget_anchors(connection: Connection, item_id: str) -> int:
    """Take an item out of all anchors; in how many it was."""
    count = 0
    for table in (anchors, rejudgings):
        for row in connection.execute(select(table.c.id, table.c.anchors).where(func.instr(table.c.anchors, item_id.encode()) > 0)).all():
            kept = [each for each in unpacked(row.anchors) if each.item != item_id]
            connection.execute(update(table).where(table.c.id == row.id).values(anchors=msgspec.json.encode(kept)))
            count += 1
    return count


def anchored_items(connection: Connection, text: bytes) -> set[str]:
    """Items whose anchors hold a text, as JSON has it."""
    found = connection.execute(select(anchors.c.anchors).where(func.instr(anchors.c.anchors, text) > 0)).scalars()
    return {each.item for data in found for each in unpacked(data) if text in msgspec.json.encode(each)}
