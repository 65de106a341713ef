"""The earlier statements of a transaction that is still open, where the performance schema keeps
them.

``events_statements_history`` has the last statements of each thread that have ended (ten by
default). Which of them belong to the open transaction is told by what ended the one before: a
commit, a rollback, a statement that commits by itself; and by its age (MariaDB documentation,
"Performance Schema events_statements_history Table").
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

#: How many of the consumers are on, of the ``NEEDED`` ones.
TELLS = """
select count(*) from performance_schema.setup_consumers where enabled = 'YES' and name in (
  'global_instrumentation', 'thread_instrumentation', 'events_statements_current',
  'events_statements_history')
"""
NEEDED = 4
_HISTORY = """
select t.processlist_id, h.event_name, h.sql_text,
  (select max(c.timer_start) from performance_schema.events_statements_current c
   join performance_schema.threads me on me.thread_id = c.thread_id
     where me.processlist_id = connection_id())
  - h.timer_start
from performance_schema.threads t join performance_schema.events_statements_history h
  on h.thread_id = t.thread_id
where t.processlist_id in ({ids}) order by t.processlist_id, h.event_id
"""
#: Statements after which no transaction is open ("Statements That Cause an Implicit Commit"), by
#: the start of the event's name.
_ENDS = (
    "commit",
    "rollback",
    "xa_commit",
    "xa_rollback",
    "create_",
    "alter_",
    "drop_",
    "truncate",
    "rename_",
    "grant",
)
_BEGINS = ("begin", "xa_start")
#: Of the connection itself: no statement of a transaction.
_NONE = ("statement/com/",)
_COUNTED = ("statement/com/Execute", "statement/com/Query")
PICO_PER_MS = 1e9
#: The age of a transaction is known in whole seconds (ms).
SLACK_MS = 1_000.0

Query = Callable[..., list[tuple[Any, ...]]]


def earlier(query: Query, ages_ms: Mapping[str, float]) -> dict[str, tuple[str, ...]]:
    """Of each session, by number, with the age of its open transaction: that transaction's
    statements that have ended, the oldest first. One of which nothing is kept is left out.
    """
    ids = [number for number in ages_ms if number.isdigit()]
    if not ids:
        return {}
    reported: dict[str, list[tuple[str, str, float]]] = {}
    for number, event, text, age in query(_HISTORY.format(ids=", ".join(ids))):
        reported.setdefault(str(number), []).append(
            (str(event), str(text or ""), float(age or 0.0) / PICO_PER_MS)
        )
    found = {}
    for number, rows in reported.items():
        mine = [(event, text) for event, text, age in rows if age <= ages_ms[number] + SLACK_MS]
        if texts := _of_open(mine):
            found[number] = texts
    return found


def _of_open(rows: Sequence[tuple[str, str]]) -> tuple[str, ...]:
    """What follows the last end of a transaction, from the beginning of the open one on."""
    kept: list[str] = []
    for event, text in rows:
        verb = event.rpartition("/")[2]
        if verb.startswith(_ENDS) and not verb.startswith("rollback_to"):
            kept = []
        elif verb.startswith(_BEGINS):
            kept = [text]
        elif text and (not event.startswith(_NONE) or event in _COUNTED):
            kept.append(text)
    return tuple(kept)
