"""Prints the story, lock pictures and the trial's table; what is said is decided in ``core``."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from catenum.core.record.modes import Mode
from catenum.core.record.recording import Picture, Recording
from catenum.core.report.lines import Section
from catenum.core.text import duration
from catenum.render.console import STYLES, say


def story_text(sections: Sequence[Section], width: int = 100) -> str:
    """The same as a plain text."""
    out = io.StringIO()
    print_story(Console(file=out, width=width, no_color=True, highlight=False), sections)
    return out.getvalue()


def print_story(console: Console, sections: Sequence[Section]) -> None:
    """The story, wrapped to the console's width."""
    for place, section in enumerate(sections):
        if place:
            say(console)
        say(console, section.title, style=STYLES["strong"])
        for line in section.lines:
            indent = "  " * line.indent
            wrapped = textwrap.wrap(
                line.text,
                max(30, console.width - 1),
                initial_indent=indent,
                subsequent_indent=indent + " " * line.hang,
                drop_whitespace=True,
                replace_whitespace=False,
                break_on_hyphens=False,
            )
            for text in wrapped or [indent]:
                say(console, Text(text, style=STYLES[line.tone]))


#: Transaction, what the lock is on, mode, whether it is granted.
LockKey = tuple[str, tuple[object, ...], Mode, bool]


def print_pictures(console: Console, recording: Recording) -> None:
    """The lock picture after each move: what was new, and what was waited for."""
    say(console, "Locks after each move (new ones marked +)", style=STYLES["strong"])
    before: set[LockKey] = set()
    for picture in recording.pictures:
        made = [move for move in recording.schedule if move.number == picture.move]
        what = "".join(f" · {move.transaction} {move.statement or move.ends}" for move in made)
        say(
            console,
            f"  move {picture.move}{what}   (taking it cost {duration(picture.cost_ms)})",
            style=STYLES["strong"],
        )
        before = _print_picture(console, picture, before)


def _print_picture(console: Console, picture: Picture, before: set[LockKey]) -> set[LockKey]:
    now: set[LockKey] = set()
    shown = [lock for lock in picture.locks if lock.resource.kind != "index"]
    if not shown:
        say(console, "      none", style=STYLES["faint"])
    width = max((len(lock.resource.text) for lock in shown), default=0)
    for lock in shown:
        key = (lock.transaction, lock.resource.identity, lock.mode, lock.granted)
        now.add(key)
        sign = "◷" if not lock.granted else ("+" if key not in before else " ")
        state = "granted" if lock.granted else "waits"
        line = Text(
            f"    {sign} {lock.transaction:<12} {lock.resource.text:<{width}}  {lock.mode!s:<20}"
            f" {state}".rstrip()
        )
        line.stylize(
            STYLES["wait"]
            if not lock.granted
            else STYLES["plain"]
            if key not in before
            else STYLES["faint"]
        )
        say(console, line)
    if picture.note:
        say(console, f"      {picture.note}", style=STYLES["faint"])
    return now
