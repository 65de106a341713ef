"""What ending a session would undo, and how long that takes, for whoever has to decide in the
night.
"""

from __future__ import annotations

from catenum.core.servers import Rules
from catenum.core.snapshot.sample import SessionInfo
from catenum.core.text import counted, duration

#: Changed rows that InnoDB undoes in a second, where they are in memory: 67,000 to 241,000 measured
#: on MySQL 9 and MariaDB 10.11, with updates of a plain and of an indexed column, and deletes (two
#: cores). From disk it is slower.
UNDONE_PER_S = 100_000


def verdict(session: SessionInfo, rules: Rules, *, partial: bool = False) -> str:
    """One sentence. ``partial``: the login may not see all, so that what is not reported may be
    there all the same.
    """
    if session.undoing:
        left = (
            f", {counted(session.rows_changed, 'changed row')} left"
            if session.rows_changed is not None
            else ""
        )
        return f"it is rolling back already{left}: ending it does nothing more"
    if session.transaction_ms is None:
        return (
            "whether there is anything to undo is not visible to this login"
            if partial
            else "nothing to undo"
        )
    if not rules.locks.undoes_row_by_row:
        return "what it has changed is undone at once, however much it is"
    rows = session.rows_changed
    if rows is None:
        return "how much would be undone is not reported"
    if rows == 0:
        return "nothing to undo"
    time = (
        f"about {duration(1_000.0 * rows / UNDONE_PER_S)}"
        if rows >= UNDONE_PER_S
        else "less than 1 s"
    )
    return f"{counted(rows, 'changed row')} to undo, {time} if in memory"
