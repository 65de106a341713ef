"""Captured conflicts: as a list of their groups, and as JSON (``catenum-intake/1``)."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from catenum.core.logs.conflicts import CapturedWait, Conflict, Member
from catenum.core.logs.groups import Group
from catenum.core.servers import rules_of
from catenum.core.text import listed, one_line
from catenum.render.console import STYLES, say

FORMAT = "catenum-intake/1"
#: Numbers of conflicts that the line of a group lists.
MOST_LISTED = 8
_MEANINGS = {
    "deadlock": "deadlock",
    "wait": "wait",
    "timeout": "lock timeout",
    "refused": "refusal",
    "ended": "wait ended from outside",
}


def print_groups(
    console: Console,
    conflicts: Sequence[Conflict],
    groups: Sequence[Group],
    files: int,
    limits: str | None = None,
) -> None:
    """The groups, those with most conflicts first. ``limits``: what such a log does not have."""
    if not conflicts:
        said = f"; {limits}" if limits else ""
        say(
            console,
            f"No conflict in {files} file{'s' if files != 1 else ''}{said}.",
            style=STYLES["plain"],
        )
        return
    title = rules_of(conflicts[0].server).title
    times = [conflict.at for conflict in conflicts if conflict.at]
    span = f", from {times[0]} to {times[-1]}" if times else ""
    one = len(conflicts) == 1
    kinds = len(groups)
    counted = (
        f"{len(conflicts):,} conflict{'' if one else 's'} of {kinds}"
        f" kind{'' if kinds == 1 else 's'}"
    )
    say(console, f"{counted} in a log of {title}{span}", style=STYLES["strong"])
    for group in groups:
        say(console)
        _print_group(console, group, conflicts)
    say(console)
    number = groups[0].numbers[-1]
    say(
        console,
        f"--pick {number} tells one as a story; 'catenum restage' makes a scenario of it.",
        style=STYLES["faint"],
    )


def _print_group(console: Console, group: Group, conflicts: Sequence[Conflict]) -> None:
    one = conflicts[group.numbers[0] - 1]
    line = Text()
    line.append(_MEANINGS[group.kind], style=STYLES["bad"])
    line.append(f" × {group.count:,}" if group.count > 1 else "")
    if group.first:
        line.append(f"   {group.first}" + (f" … {group.last}" if group.last != group.first else ""))
    say(console, line)
    for member in one.members:
        name = member.application or f"session {member.session}"
        sql = one_line(member.statement, 200) if member.statement else "statement unknown"
        lines = textwrap.wrap(f"{name}: {sql}", console.width - 6, subsequent_indent="    ")
        for text in lines[:3]:
            say(console, f"    {text}")
    if group.relations:
        say(console, f"  over {listed(list(group.relations))}", style=STYLES["faint"])
    if group.victims:
        fell = ", ".join(f"{name} {count}" for name, count in group.victims.most_common(5))
        say(console, f"  ended: {fell}", style=STYLES["faint"])
    numbers = ", ".join(map(str, group.numbers[:MOST_LISTED])) + (
        " …" if group.count > MOST_LISTED else ""
    )
    say(console, f"  number{'' if group.count == 1 else 's'} {numbers}", style=STYLES["faint"])


def to_json_value(
    conflicts: Sequence[Conflict], groups: Sequence[Group], limits: str | None = None
) -> dict[str, Any]:
    """As plain values, the conflicts in the order of the files. ``limits``: what such a log does
    not have.
    """
    return {
        "format": FORMAT,
        "limits": limits,
        "conflicts": [
            conflict_value(number, conflict) for number, conflict in enumerate(conflicts, 1)
        ],
        "groups": [
            {
                "kind": group.kind,
                "statements": list(group.shapes),
                "relations": list(group.relations),
                "count": group.count,
                "first": group.first,
                "last": group.last,
                "conflicts": group.numbers,
                "victims": dict(group.victims.most_common()),
                "applications": dict(group.applications.most_common()),
            }
            for group in groups
        ],
    }


def conflict_value(number: int, conflict: Conflict) -> dict[str, Any]:
    return {
        "number": number,
        "kind": conflict.kind,
        "server": conflict.server,
        "at": conflict.at,
        "source": conflict.source,
        "code": conflict.code,
        "members": [_member_value(member) for member in conflict.members],
        "waits": [_wait_value(wait) for wait in conflict.waits],
        "victim": conflict.victim,
        "relations": list(conflict.relations),
        "notes": list(conflict.notes),
        "provenance": dict(conflict.provenance),
        "report": conflict.report,
    }


def _member_value(member: Member) -> dict[str, Any]:
    return {
        "session": member.session,
        "application": member.application,
        "user": member.user,
        "database": member.database,
        "statement": member.statement,
        "history": list(member.history) if member.history is not None else None,
        "later": list(member.later),
        "ending": member.ending,
        "whole": member.whole,
        "isolation": member.isolation,
        "provenance": dict(member.provenance),
    }


def _wait_value(wait: CapturedWait) -> dict[str, Any]:
    return {
        "waiter": wait.waiter,
        "holder": wait.holder,
        "object": wait.object,
        "mode": wait.mode,
        "table": wait.table,
        "index": wait.index,
        "held_mode": wait.held,
        "seconds": wait.seconds,
        "provenance": dict(wait.provenance),
    }
