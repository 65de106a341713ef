"""A standby: what its replay waits for, and who may be in its way.

The startup process replays; where a session still needs rows that are to be removed, it waits for
that session without a lock (standby.c, ``ResolveRecoveryConflictWithSnapshot``), so that the server
does not name it. Whoever has a snapshot is suspected, the oldest first; where one session alone has
one, it is that.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, LiteralString

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Edge, Resource
from catenum.core.snapshot.sample import Suspect
from catenum.core.text import duration
from catenum.engines.monitor import SOMEBODY
from catenum.engines.postgresql.activity import ActivityRow

_STATE: LiteralString = """
select pg_last_wal_replay_lsn()::text,
       extract(epoch from clock_timestamp() - pg_last_xact_replay_timestamp())::float8 * 1000
"""
_SNAPSHOTS: LiteralString = """
select pid, age(backend_xmin) from pg_stat_activity
where backend_xmin is not null and pid <> pg_backend_pid() and backend_type = 'client backend'
  order by 2 desc, pid
"""
#: Suspects that are named.
MOST_SUSPECTS = 5


@dataclass(frozen=True)
class Replay:
    """Waits of the replay, who is suspected, and how far it is. ``sessions``: those that are
    named.
    """

    edges: tuple[Edge, ...] = ()
    suspects: tuple[Suspect, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def sessions(self) -> set[str]:
        """Everybody named in it."""
        named = {edge.holder for edge in self.edges} | {
            suspect.session for suspect in self.suspects
        }
        return {name for name in named if name.isdigit()}


def replay_of(query: Callable[..., list[tuple[Any, ...]]], rows: Sequence[ActivityRow]) -> Replay:
    """What holds up the replay of a standby, if anything does."""
    startup = next((row for row in rows if row.kind == "startup"), None)
    if startup is None:
        return Replay()
    place, age = query(_STATE)[0]
    behind = f"; the last transaction replayed is {duration(age)} old" if age is not None else ""
    note = f"this is a standby; its replay waits at {place}{behind}"
    if startup.event_type == "Lock":
        return Replay(notes=(note,))
    holders = [str(pid) for pid, _ in query(_SNAPSHOTS)]
    waiter = str(startup.pid)
    edge = Edge(
        waiter=waiter,
        holder=holders[0] if len(holders) == 1 else SOMEBODY,
        resource=Resource(kind="other", text="rows that are to be removed by the replay"),
        wanted=Mode("other", "replay"),
        held=None,
    )
    if len(holders) == 1:
        return Replay((edge,), (), (note,))
    why = "it has a snapshot, and the replay waits for one that is too old"
    suspects = tuple(
        Suspect(waiter=waiter, session=pid, why=why) for pid in holders[:MOST_SUSPECTS]
    )
    return Replay((edge,), suspects, (note,))
