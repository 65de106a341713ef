"""Findings: each is one pass over a recording, with one signature, in a module of its name.

A new one is a file, a line in ``PASSES``, and a case under ``tests/cases``.
"""

from __future__ import annotations

from collections.abc import Callable

from catenum.core.diagnose import (
    left_open,
    lock_upgrade,
    opposite_order,
    schema_change,
    serialization_refused,
    stricter_isolation,
)
from catenum.core.recording import Finding, Recording

Pass = Callable[[Recording], list[Finding]]

PASSES: tuple[Pass, ...] = (
    opposite_order.find,
    lock_upgrade.find,
    left_open.find,
    schema_change.find,
    serialization_refused.find,
    stricter_isolation.find,
)


def diagnose(recording: Recording) -> tuple[Finding, ...]:
    """What the recording's own evidence shows, in the order of ``PASSES``."""
    return tuple(finding for find in PASSES for finding in find(recording))
