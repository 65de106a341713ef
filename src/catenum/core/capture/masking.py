"""Captured conflicts without values: statements and records masked by their parts, never as text; ids stay."""

from __future__ import annotations

import re
from dataclasses import replace

from catenum.core.serverlog.conflicts import CapturedWait, Conflict, Member
from catenum.core.servers import rules_of


def masked(conflict: Conflict) -> Conflict:
    """The same without literals, keys of records and parameters. The report itself is left out but for its ids."""
    rules = rules_of(conflict.server)

    def member(one: Member) -> Member:
        return replace(
            one,
            statement=rules.masked(one.statement) if one.statement else None,
            history=tuple(rules.masked(sql) for sql in one.history) if one.history is not None else None,
        )

    def wait(one: CapturedWait) -> CapturedWait:
        by_key = bool(one.record) or "advisory" in one.object
        text = re.sub(r"\((?:[^()]|\([^()]*\))*\)|(?<=advisory lock ).*", "(?)", one.object) if by_key else one.object
        return replace(one, object=text, record=())

    return replace(
        conflict,
        members=tuple(map(member, conflict.members)),
        waits=tuple(map(wait, conflict.waits)),
        report=rules.masked_report(conflict.report),
    )
