"""What was typed into programs that have only a screen: by which run, and whether it came to its end."""

from __future__ import annotations

from sqlalchemy import Connection, delete, insert, select, update

from metrikon.store.tables import entered


def begin(connection: Connection, key: str, run_id: str, path: str, at: int) -> tuple[str, str, str] | None:
    """Note that something is being entered; (state, run, path) of who has entered it, or began to, where there is one."""
    row = connection.execute(select(entered.c.state, entered.c.run_id, entered.c.path).where(entered.c.key == key)).first()
    if row is not None:
        return str(row.state), str(row.run_id), str(row.path)
    connection.execute(insert(entered).values(key=key, run_id=run_id, path=path, state="begun", at=at))
    return None


def done(connection: Connection, key: str, run_id: str, path: str, at: int) -> None:
    """It was entered, by this run."""
    changed = connection.execute(update(entered).where(entered.c.key == key).values(run_id=run_id, path=path, state="done", at=at)).rowcount
    if not changed:
        connection.execute(insert(entered).values(key=key, run_id=run_id, path=path, state="done", at=at))


def forget(connection: Connection, key: str) -> None:
    """It was not entered: the next may begin."""
    connection.execute(delete(entered).where(entered.c.key == key, entered.c.state == "begun"))
