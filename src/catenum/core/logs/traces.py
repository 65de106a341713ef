"""What a server still has of the rows that a captured conflict was over."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from catenum.core.logs.conflicts import CapturedWait, Conflict, Provenance


@dataclass(slots=True)
class Trace:
    """What came of looking for a row. ``row``: it, where it is certain; ``tried``: each way, and
    what it gave.
    """

    row: str | None = None
    tried: list[str] = field(default_factory=list)


#: Looks for the row of a table that stood at an address when transactions met, of which the first
#: held it.
RowSearch = Callable[[str, str | None, Sequence[int]], Trace]


def with_traces(conflict: Conflict, search: RowSearch) -> Conflict:
    """A conflict whose rows are named as far as the server still tells, and what was tried for
    each.
    """
    numbers = dict.fromkeys(int(wait.transaction) for wait in conflict.waits if wait.transaction)
    waits: list[CapturedWait] = []
    notes = list(conflict.notes)
    for wait in conflict.waits:
        own = [int(wait.transaction)] if wait.transaction else []
        if wait.table is None or wait.index is not None or not (wait.address or own):
            waits.append(wait)
            continue
        trace = search(
            wait.table, wait.address, [*own, *(number for number in numbers if number not in own)]
        )
        notes.append(f"the row for which session {wait.waiter} waited: {'; '.join(trace.tried)}")
        reported: dict[str, Provenance] = {**wait.provenance, "object": "recovered"}
        waits.append(replace(wait, object=trace.row, provenance=reported) if trace.row else wait)
    return replace(conflict, waits=tuple(waits), notes=tuple(notes))
