"""The hand-over: what happened on the watched servers, for the next shift; plain text or
Markdown.
"""

from __future__ import annotations

import textwrap
from typing import Any

from catenum.core.snapshot.handover import parts_of, time_text

WIDTH = 118


def handover(value: dict[str, Any], *, markdown: bool) -> str:
    """The whole report, of what ``live.handover.handover_value`` gives."""
    head = f"Hand-over, {time_text(value['since'])} to {time_text(value['until'])} UTC"
    lines = [f"# {head}", ""] if markdown else [head, ""]
    lines += [_escaped(value["headline"]) if markdown else value["headline"], ""]
    for part in parts_of(value):
        lines += [f"## {part.title}", ""] if markdown else [part.title]
        for first, *rest in part.entries:
            if markdown:
                lines += [f"- {_escaped(first)}", *(f"  - {_escaped(line)}" for line in rest)]
                continue
            lines += textwrap.wrap(first, WIDTH, initial_indent="  ", subsequent_indent="    ")
            for line in rest:
                lines += textwrap.wrap(
                    line, WIDTH, initial_indent="      ", subsequent_indent="      "
                )
        if not part.entries:
            lines.append(part.none if markdown else f"  {part.none}")
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _escaped(text: str) -> str:
    """Text that means nothing to Markdown: what stands in statements and names is no markup."""
    for mark in "\\`*_[]<>#|":
        text = text.replace(mark, f"\\{mark}")
    return text
