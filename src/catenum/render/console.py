"""Consoles: one place decides about colour, width and which signs the stream can show."""

from __future__ import annotations

import os
from typing import IO, Any

from rich.console import Console
from rich.text import Text

from catenum.core.text import harmless

PIPE_WIDTH, MOST_WIDTH = 80, 132

#: Tone to style. Nothing depends on colour alone: each tone also has a sign or a word in the text.
STYLES = {
    "plain": "",
    "strong": "bold",
    "bad": "bold red",
    "good": "green",
    "faint": "dim",
    "wait": "magenta",
    "lane": "dim",
}

_PLAIN_SIGNS = str.maketrans(
    {
        "▷": ">",
        "↷": "^",
        "✓": "+",
        "✗": "x",
        "◷": "~",
        "┊": ":",
        "│": "|",
        "─": "-",
        "├": "+",
        "└": "+",
        "→": "->",
        "←": "<-",
        "·": "*",
        "…": "...",
        "–": "-",
        "◆": "@",
        "▪": "#",
        "×": "x",
        "—": "-",
    }
)


def make_console(
    stream: IO[str], *, color: bool | None = None, width: int | None = None
) -> Console:
    """A console on ``stream``. ``color`` None: as the terminal, ``NO_COLOR`` and ``FORCE_COLOR``
    say; a pipe is plain unless it is forced.
    """
    terminal = stream.isatty()
    forced = os.environ.get("FORCE_COLOR", "") not in ("", "0")
    allowed = (terminal and os.environ.get("TERM") != "dumb") or forced
    use = (allowed and not os.environ.get("NO_COLOR")) if color is None else color
    columns = width or (None if terminal else int(os.environ.get("COLUMNS") or PIPE_WIDTH))
    console = Console(
        file=stream,
        force_terminal=use,
        no_color=not use,
        color_system=None if not use else "auto" if terminal else "standard",
        width=columns,
        highlight=False,
        markup=False,
        emoji=False,
        legacy_windows=False,
    )
    if console.width > MOST_WIDTH:
        console.width = MOST_WIDTH
    return console


def say(console: Console, text: Text | str = "", **style: Any) -> None:
    """Print one line as it is, in signs that the stream can show."""
    line = text.copy() if isinstance(text, Text) else Text(text, **style)
    if (shown := harmless(line.plain)) != line.plain:
        line.plain = shown
    if not _shows_signs(console):
        line = _plain(line)
    console.print(line, soft_wrap=True)


def _shows_signs(console: Console) -> bool:
    encoding = (
        getattr(console.file, "encoding", None) or "utf-8"
    )  # a stream of text in memory names none
    try:
        "▷↷✓✗◷┊→".encode(encoding)
    except (UnicodeEncodeError, LookupError):
        return False
    return True


def _plain(line: Text) -> Text:
    pieces = Text()
    line = line.copy()
    line.plain = "".join("?" if 0x2400 <= ord(sign) < 0x2422 else sign for sign in line.plain)
    for segment in line.split("\n"):
        spans = segment.spans or []
        if not spans:
            pieces.append(segment.plain.translate(_PLAIN_SIGNS))
            continue
        for place, sign in enumerate(segment.plain):
            style = next(
                (span.style for span in reversed(spans) if span.start <= place < span.end), ""
            )
            pieces.append(sign.translate(_PLAIN_SIGNS), style=style)
    return pieces
