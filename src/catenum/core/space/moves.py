"""What one move of a run brought: what runs schedules (``lab.run``) tells it to what chooses them
(``search``).
"""

from __future__ import annotations

from dataclasses import dataclass, field

from catenum.core.record.values import NOTHING, Binding


@dataclass
class MoveResult:
    """What one move brought: whose it was, which statements were answered in it, and whose work was
    undone.

    ``completed`` and ``ended`` name transactions with the number of a statement (None: the end).
    ``holders``: whom the mover waits for when the move is over, ``waits``: who waits for whom then.
    ``rows``: how many each statement of ``completed`` reported, where it did. ``committed``: those
    that ended so.
    """

    transaction: str
    statement: int | None
    completed: list[tuple[str, int | None]] = field(default_factory=list)
    undone: list[str] = field(default_factory=list)
    #: Those that go on without their locks, or perhaps without: after an error, or since each of
    #: their statements is committed by itself.
    released: list[str] = field(default_factory=list)
    holders: frozenset[str] = frozenset()
    waits: frozenset[tuple[str, str]] = frozenset()
    committed: list[str] = field(default_factory=list)
    rows: dict[tuple[str, int | None], int | None] = field(default_factory=dict)
    #: The values that the mover's statement was sent with; ``passed``: it was not sent, by its
    #: condition.
    bound: Binding = NOTHING
    passed: bool = False
