"""The passes, in their order.

A new one is a file, a line in ``PASSES``, and a case under ``tests/cases``.
"""

from __future__ import annotations

from collections.abc import Callable

from catenum.core.diagnose import (
    caught_deadlock,
    caught_timeout,
    escalation,
    foreign_key,
    gap_locks,
    hot_row,
    index_path,
    left_open,
    lock_upgrade,
    locks_for_rows,
    opposite_order,
    outlived_lock,
    schema_change,
    serialization_refused,
    shared_read,
    stricter_isolation,
    unmet_requirement,
    unseen_cycle,
    update_lock,
    want_of_index,
    went_on_after_error,
)
from catenum.core.record.recording import Finding, Recording

Pass = Callable[[Recording], list[Finding]]

PASSES: tuple[Pass, ...] = (
    opposite_order.find,
    unseen_cycle.find,
    caught_deadlock.find,
    caught_timeout.find,
    index_path.find,
    foreign_key.find,
    gap_locks.find,
    lock_upgrade.find,
    update_lock.find,
    left_open.find,
    outlived_lock.find,
    schema_change.find,
    escalation.find,
    shared_read.find,
    want_of_index.find,
    hot_row.find,
    locks_for_rows.find,
    serialization_refused.find,
    unmet_requirement.find,
    went_on_after_error.find,
    stricter_isolation.find,
)


def diagnose(recording: Recording) -> tuple[Finding, ...]:
    """What the recording's own evidence shows, in the order of ``PASSES``."""
    return tuple(finding for find in PASSES for finding in find(recording))
