"""Loops and loads as documents."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from catenum.core.document.blocks import (
    Block,
    Bullets,
    Document,
    Figure,
    Paragraph,
    Part,
    Table,
    Tone,
)
from catenum.core.document.detail import Detail
from catenum.core.document.recording import document_of
from catenum.core.pace.results import PaceResult
from catenum.core.record.recording import Recording
from catenum.core.text import counted, duration


def document_of_churn(
    value: Mapping[str, Any], recordings: Sequence[Recording], detail: Detail
) -> Document:
    """``catenum-churn/1``: transactions in loops; ``recordings``: of the distinct cycles."""
    return Document(
        title=f"{value['scenario']}: in loops",
        summary=tuple(churn_summary(value)),
        parts=tuple(_churn_parts(value, recordings, detail)),
    )


def churn_summary(value: Mapping[str, Any]) -> Iterator[tuple[str, Tone]]:
    """How often what failed."""
    bad = {kind: one["count"] for kind, one in value["failures"].items() if one["count"]}
    whole = f"{value['iterations']:,} iterations in {value['seconds']:.1f} s"
    said = ", ".join(f"{count:,} × {kind}" for kind, count in bad.items()) or "no failure"
    yield f"In {whole}: {said}.", "bad" if bad else "good"
    yield "Loops sample what timing does: what they did not show may happen.", "plain"


def _churn_parts(
    value: Mapping[str, Any], recordings: Sequence[Recording], detail: Detail
) -> Iterator[Part]:
    yield Part(
        "Figures",
        (
            Table(
                head=("failure", "count", "per 10,000 iterations", "95 % interval"),
                rows=tuple(
                    (
                        kind,
                        f"{one['count']:,}",
                        f"{one['per_10000']:.3g}",
                        f"{one['low']:.3g} to {one['high']:.3g}",
                    )
                    for kind, one in value["failures"].items()
                ),
                numbers=(1, 2),
            ),
            Table(
                head=("transaction", "iterations", "p50", "p95", "p99", "failures"),
                rows=tuple(
                    (
                        name,
                        f"{one['iterations']:,}",
                        *(duration(one[key]) for key in ("p50_ms", "p95_ms", "p99_ms")),
                        ", ".join(f"{k} {n}" for k, n in sorted(one["failures"].items())) or "none",
                    )
                    for name, one in value["transactions"].items()
                ),
                numbers=(1, 2, 3, 4),
            ),
        ),
    )
    if value["cycles"]:
        lines: list[tuple[str, Tone, int]] = []
        for one in value["cycles"]:
            lines.append((f"{counted(one['times'], 'time')}: {one['cycle']}", "plain", 0))
        yield Part("Distinct deadlock cycles", (Bullets(tuple(lines)),))
    for number, recording in enumerate(recordings[: detail.recordings], 1):
        for part in document_of(recording, detail).parts:
            yield Part(f"Cycle {number}: {part.title}", part.blocks)


def document_of_pace(result: PaceResult, detail: Detail) -> Document:
    """What levels cost, from one client to many."""
    return Document(
        title=f"{result.scenario}: under load",
        summary=tuple(pace_summary(result)),
        facts=(
            ("Server", f"{result.server} {result.version} ({result.target})"),
            ("Started", result.started),
            ("Default level", result.default_level),
        ),
        parts=tuple(_pace_parts(result, detail)),
    )


def pace_summary(result: PaceResult) -> Iterator[tuple[str, Tone]]:
    """Which level commits most with the most clients."""
    for step in result.steps[-1:]:
        best = max(step.levels, key=lambda one: one.per_second.value, default=None)
        if best is not None:
            clients = counted(step.clients, "client")
            speed = f"{best.per_second.value:,.0f} transactions a second"
            yield f"With {clients} {best.level} commits most: {speed}.", "plain"
    if result.stopped:
        yield f"It ended early: {result.stopped}.", "bad"


def _pace_parts(result: PaceResult, detail: Detail) -> Iterator[Part]:
    if detail.figures and result.steps:
        caption = "Commits a second, retries and latency by clients, at each level."
        yield Part("Charts", (Figure(kind="pace", value=result, caption=caption),))
    for step in result.steps:
        blocks: list[Block] = [
            Table(
                head=("level", "committed/s", "× default", "retries", "p50", "p95", "p99"),
                rows=tuple(
                    (
                        one.level,
                        f"{one.per_second.value:,.0f}",
                        "–"
                        if one.ratio is None
                        else f"{one.ratio.ratio:.2f} ({one.ratio.low:.2f} to {one.ratio.high:.2f})",
                        f"{one.retries_per_commit:.3g}",
                        *(duration(ms) for ms in (one.p50_ms, one.p95_ms, one.p99_ms)),
                    )
                    for one in step.levels
                ),
                numbers=(1, 2, 3, 4, 5, 6),
            )
        ]
        if any(one.bottleneck for one in step.levels):
            blocks.append(Paragraph("The load itself may be the limit, not the server.", "bad"))
        if any(one.unsteady or one.rough for one in step.levels):
            blocks.append(Paragraph("Turns differ much among themselves: read with care.", "bad"))
        if step.stopped:
            blocks.append(Paragraph(f"Ended: {step.stopped}", "bad"))
        yield Part(counted(step.clients, "client"), tuple(blocks))
    if result.notes:
        yield Part("Notes", (Bullets(tuple((text, "faint", 0) for text in result.notes)),))
