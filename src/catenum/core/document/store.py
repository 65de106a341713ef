"""A watch's store as a document: the hand-over."""

from __future__ import annotations

from typing import Any

from catenum.core.document.blocks import Bullets, Document, Paragraph, Part, Tone
from catenum.core.snapshot.handover import parts_of, time_text


def document_of_store(name: str, value: dict[str, Any]) -> Document:
    """Of what ``store.handover.handover_value`` gives; ``name``: of the store."""
    bad = bool(value["open"] or value["deadlocks"])
    return Document(
        title=f"What was seen, {time_text(value['since'])} to {time_text(value['until'])} UTC",
        summary=((value["headline"], "bad" if bad else "plain"),),
        facts=(("Store", name),),
        parts=tuple(
            Part(part.title, (_entries(part.entries) or Paragraph(part.none, "faint"),))
            for part in parts_of(value)
        ),
    )


def _entries(entries: tuple[tuple[str, ...], ...]) -> Bullets | None:
    lines: list[tuple[str, Tone, int]] = []
    for first, *rest in entries:
        lines.append((first, "plain", 0))
        lines += [(text, "faint", 1) for text in rest]
    return Bullets(tuple(lines)) if lines else None
