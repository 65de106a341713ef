"""Documents as Markdown, for an issue tracker: text, tables and code; no drawings.

What comes from data is no markup: it is escaped, or stands in a fence that is longer than any in
it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from catenum.core.document.blocks import (
    Block,
    Bullets,
    Code,
    Details,
    Document,
    Figure,
    Paragraph,
    Stepper,
    Table,
)
from catenum.core.document.steps import Step
from catenum.core.text import harmless
from catenum.core.version import __version__

_MARKS = re.compile(r"([\\`*_\[\]<>#|~@&])")


def markdown(documents: Sequence[Document], *, made: str, left_out: Sequence[str]) -> str:
    """One text of all documents."""
    lines: list[str] = []
    for document in documents:
        lines += _document(document)
    lines += [f"**{escaped(text)}**" for text in left_out]
    lines += ["", f"*Made by catenum {__version__}, {made}.*"]
    return "\n".join(lines).strip() + "\n"


def escaped(text: str) -> str:
    """A text that means nothing to Markdown, on one line."""
    return _MARKS.sub(r"\\\1", " ".join(harmless(text).split()))


def _document(document: Document) -> Iterator[str]:
    yield from (f"# {escaped(document.title)}", "")
    if document.standin:
        yield from ("**Run on a stand-in, not on a real server.**", "")
    for text, tone in document.summary:
        yield from (f"**{escaped(text)}**" if tone == "bad" else escaped(text), "")
    for name, value in document.facts:
        yield f"- {escaped(name)}: {escaped(value)}"
    for part in document.parts:
        lines = [line for block in part.blocks for line in _block(block)]
        if lines:
            yield from ("", f"## {escaped(part.title)}", "", *lines)
    yield ""


def _block(block: Block) -> Iterator[str]:
    if isinstance(block, Paragraph):
        yield from (escaped(block.text), "")
    elif isinstance(block, Bullets):
        for text, _, indent in block.items:
            yield f"{'  ' * indent}- {escaped(text)}"
        yield ""
    elif isinstance(block, Table):
        yield from _table(block)
    elif isinstance(block, Code):
        yield from _fenced(block.text, block.language)
    elif isinstance(block, Stepper):
        yield from _stepper(block)
    elif isinstance(block, Details):
        yield from (f"### {escaped(block.title)}", "")
        for inner in block.blocks:
            yield from _block(inner)
    else:
        assert isinstance(block, Figure)  # a text has none


def _table(block: Table) -> Iterator[str]:
    if block.caption:
        yield from (escaped(block.caption), "")
    yield f"| {' | '.join(escaped(cell) or ' ' for cell in block.head)} |"
    rules = ("--:" if number in block.numbers else "---" for number in range(len(block.head)))
    yield f"| {' | '.join(rules)} |"
    for row in block.rows:
        yield f"| {' | '.join(escaped(cell) for cell in row)} |"
    yield ""


def _fenced(text: str, language: str) -> Iterator[str]:
    longest = max((len(found) for found in re.findall(r"`+", text)), default=0)
    fence = "`" * max(3, longest + 1)
    yield from (f"{fence}{language}", harmless(text).rstrip("\n"), fence, "")


def _stepper(block: Stepper) -> Iterator[str]:
    for column in block.columns:
        if column.title:
            yield from (f"**{escaped(column.title)}**", "")
        yield from ("| move | what happened | who waits for whom |", "| --: | --- | --- |")
        for step in column.steps:
            happened = "<br>".join(escaped(f"{sign} {text}") for sign, text, _ in step.happened)
            yield f"| {step.number} | {happened} | {_waits(step)} |"
        yield ""
        if column.left_out:
            yield from (f"**{escaped(column.left_out)}.**", "")


def _waits(step: Step) -> str:
    return "<br>".join(
        escaped(f"{edge.waiter} → {edge.holder} over {edge.label}") for edge in step.edges
    )
