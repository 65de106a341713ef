"""Small words that every text shares: lists of names, lengths of time, numbers of things,
statements cut to a line.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping


def named(transaction: str, statement: int | None) -> str:
    """A statement as people say it: ``early 2``."""
    return f"{transaction} {statement}" if statement is not None else f"the end of {transaction}"


#: Names that a sentence lists.
MOST_NAMES = 12


def listed(names: list[str]) -> str:
    """Names in a row: ``early, late and tide``; ``nobody`` where there are none; of very many, some
    and the number.
    """
    if len(names) > MOST_NAMES:
        return f"{', '.join(names[: MOST_NAMES - 2])} and {len(names) - MOST_NAMES + 2} more"
    if len(names) < 2:
        return names[0] if names else "nobody"
    return f"{', '.join(names[:-1])} and {names[-1]}"


def called(session: str) -> str:
    """A session by its number; what holds a lock without one (a prepared transaction) as it is
    called.
    """
    return f"session {session}" if session.isdigit() else session


def duration(ms: float | None) -> str:
    """A length of time as people say it: ``4.2 ms``, ``350 ms``, ``12 s``, ``3 min 20 s``, ``2 h 5
    min``.
    """
    if ms is None:
        return "?"
    if ms < 9.95:  # what would be rounded up to the next unit is said in that
        return f"{ms:.1f} ms"
    if ms < 999.5:
        return f"{ms:.0f} ms"
    if ms < 59_950:
        return f"{ms / 1_000:.1f} s"
    minutes, seconds = divmod(round(ms / 1_000), 60)
    if minutes < 60:
        return f"{minutes} min {seconds} s" if seconds else f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    if hours < 48:
        return f"{hours} h {minutes} min" if minutes else f"{hours} h"
    return f"{hours // 24} days"


#: Signs that a terminal would act on, or that turn the order of what is read: shown as pictures,
#: one for one.
_ACTING = {
    **{code: 0x2400 + code for code in range(32) if chr(code) not in "\n\t"},
    0x7F: 0x2421,
    **dict.fromkeys(
        [*range(0x80, 0xA0), 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A)], 0xFFFD
    ),
}


def harmless(text: str) -> str:
    """Text as it may go to a terminal, whatever a name or a statement has in it; as long as
    before.
    """
    return text.translate(_ACTING)


def one_line(sql: str, limit: int = 10_000) -> str:
    """A statement on one line, cut with an ellipsis."""
    text = " ".join(sql.split())
    return text if len(text) <= limit else text[: limit - 1] + "…"


def shortened(sql: str, limit: int) -> str:
    """A statement cut in the middle, so that its condition stays: ``update berth set … where id =
    3``.
    """
    text = one_line(sql)
    if len(text) <= limit:
        return text
    where = text.lower().rfind(" where ")
    tail = (
        text[where:] if where > 0 and len(text) - where <= limit * 2 // 3 else text[-(limit // 3) :]
    )
    head = text[: max(1, limit - len(tail) - 2)].rstrip()
    head = head.rpartition(" ")[0] or head
    return f"{head} …{tail}"


def with_values(values: Mapping[str, str | None]) -> str:
    """Values as people read them: ``box = 7, seen = null``."""
    return ", ".join(
        f"{name} = {'null' if text is None else text}" for name, text in values.items()
    )


def decided(condition: str | None, values: Mapping[str, str | None]) -> str:
    """Why a statement was not run: ``seen > 1 is not true, seen = 1``."""
    return f"{condition} is not true, {with_values(values)}"


def counted(number: int, what: str) -> str:
    """A number of things: ``1 schedule``, ``1,204 schedules``, ``2 classes``, ``2 queries``."""
    plural = (
        what[:-1] + "ies" if what.endswith("y") else what + ("es" if what.endswith("s") else "s")
    )
    return f"{number:,} {what if number == 1 else plural}"


def suggestion(word: str, valid: list[str]) -> str:
    """Advice that names the nearest valid word, or all of them."""
    near = difflib.get_close_matches(word, valid, n=1, cutoff=0.5)
    return f"Did you mean {near[0]}?" if near else "Valid here: " + ", ".join(valid) + "."


#: A length of time as it is written in scenarios and options.
DURATION = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(ms|s|min|h)\s*$")
_UNIT_MS = {"ms": 1, "s": 1_000, "min": 60_000, "h": 3_600_000}


def parse_duration(text: object) -> int:
    """Milliseconds in ``500ms``, ``10s``, ``2min`` or ``1h``. Raises ValueError for anything else,
    or for zero.
    """
    match = DURATION.match(text) if isinstance(text, str) else None
    if not match:
        raise ValueError(
            f"{text!r} is not a length of time; write it with its unit, such as 500ms, 10s or 2min"
        )
    milliseconds = round(float(match[1]) * _UNIT_MS[match[2]])
    if milliseconds < 1:
        raise ValueError("a length of time must be at least 1ms")
    return milliseconds
