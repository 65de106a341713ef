"""The details of a deadlock in PostgreSQL's log: who waits for whom, and each member's statement.

They have a line for each member, which names it first and whom it waits for last, in whatever
language, and then each member's statement (deadlock.c, ``DeadLockReport``). The first member is the
one that found the cycle.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from catenum.core.logs.conflicts import CUT

#: A number that is no part of another thing, and a lock's mode.
#: Letters of languages without spaces may stand beside it.
NUMBERS = re.compile(r"(?<![\w.\[(/,:])\d+(?![\w\])/]|[.,]\d)", re.ASCII)
MODE = re.compile(r"(?<![A-Za-z])(?P<mode>[A-Z][A-Za-z]*(?:Lock|Predicate))(?![A-Za-z])")
#: Lengths of statements at which a server cuts them (``track_activity_query_size`` less one), in
#: bytes.
_CUT_AT = frozenset(2**power - 1 for power in range(7, 21))


class WaitLine(NamedTuple):
    pid: int
    blocker: int
    line: str


def cycle(detail: str) -> list[WaitLine]:
    """The lines of a deadlock's details that say who waits for whom: each names its blocker last,
    who has the next.
    """
    found: list[WaitLine] = []
    for line in detail.split("\n"):
        numbers = NUMBERS.findall(line)
        if MODE.search(line) is None or len(numbers) < 2:
            return []
        one = WaitLine(int(numbers[0]), int(numbers[-1]), line)
        if found and found[-1].blocker != one.pid:
            return []
        found.append(one)
        if one.blocker == found[0].pid:
            return found if len({reported.pid for reported in found}) == len(found) else []
    return []


def statements_of(detail: str, reported: Sequence[WaitLine], first: str | None) -> dict[int, str]:
    """Each member's statement: behind the waits, in their order, each under its process's number.

    A statement may have lines that look like the next member's. ``first``: that of the first
    member, as the log has it elsewhere, which tells how many lines are its own.
    """
    lines = detail.split("\n")[len(reported) :]
    found: dict[int, str] = {}
    starts: list[tuple[int, int, str]] = []
    place = 0
    for one in reported:
        begins = re.compile(rf"^\D{{0,40}}{one.pid}\D{{0,10}}?[:：] ?(.*)$")
        for number in range(place, len(lines)):
            match = begins.match(lines[number])
            if match:
                starts.append((number, one.pid, match[1]))
                place = number + (
                    _own_lines(match[1], lines[number + 1 :], first) if one is reported[0] else 1
                )
                break
    for (number, pid, begun), following in zip(
        starts, [*starts[1:], (len(lines), 0, "")], strict=False
    ):
        text = "\n".join([begun, *lines[number + 1 : following[0]]]).strip()
        if text and not (text.startswith("<") and text.endswith(">")):
            found[pid] = f"{text}{CUT}" if len(text.encode()) in _CUT_AT else text
    if first and reported[0].pid in found and first.startswith(found[reported[0].pid].rstrip(CUT)):
        found[reported[0].pid] = first
    return found


def _own_lines(begun: str, following: Sequence[str], first: str | None) -> int:
    """How many lines of the details are the first member's statement."""
    wanted = (first or "").split("\n")
    if not first or not wanted[0].startswith(begun.rstrip()):
        return 1
    number = 1
    for line, own in zip(following, wanted[1:], strict=False):
        if not own.startswith(line):
            break
        number += 1
    return number
