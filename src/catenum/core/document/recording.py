"""A recording as a document: what happened, who held what, why that victim, is the data right, how
to run it again.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence

from catenum.core.document.blocks import (
    Block,
    Bullets,
    Code,
    Document,
    Figure,
    Paragraph,
    Part,
    Stepper,
    StepsOf,
    Table,
    Tone,
)
from catenum.core.document.detail import Detail
from catenum.core.document.steps import steps_of
from catenum.core.record.outcome import is_conflict
from catenum.core.record.recording import Recording
from catenum.core.report.headline import headline
from catenum.core.report.lines import Section
from catenum.core.report.recording_story import tell
from catenum.core.scenario.writing import as_text
from catenum.core.servers import rules_of
from catenum.core.text import counted, duration, one_line
from catenum.core.version import __version__

#: Sections of the story, and the heading below which each stands.
_STORY = (
    ("The deadlock cycle", ("cycles",)),
    ("Who waits behind whom", ("chains",)),
    ("Who held what, since which statement", ("conflicts", "histories")),
    ("Why that victim", ("victims",)),
    ("Errors", ("errors",)),
    ("The cause, and what would help", ("findings",)),
)


def document_of(recording: Recording, detail: Detail, *, title: str | None = None) -> Document:
    """The whole of a recording."""
    return Document(
        title=title or recording.scenario,
        summary=tuple(summary_of(recording)),
        facts=tuple(facts_of(recording)),
        parts=tuple(_parts(recording, detail)),
        standin=recording.target.standin,
    )


def summary_of(recording: Recording) -> Iterator[tuple[str, Tone]]:
    """What happened, whether the data is right, and what would help: a sentence each."""
    bad = is_conflict(recording.outcome)
    yield headline(recording), "bad" if bad else "plain"
    if recording.source in ("run", "loops"):
        yield data_sentence(recording)
    advice = [text for finding in recording.findings for text in finding.advice]
    if advice:
        yield f"What would help: {advice[0]}", "plain"


def data_sentence(recording: Recording) -> tuple[str, Tone]:
    """Whether the data is right at the end, as far as that is known."""
    outcome = recording.outcome
    broken = outcome.broken_rules
    if broken:
        return f"The data is wrong: {', '.join(f'“{title}”' for title in broken)} not true.", "bad"
    if outcome.data == "anomaly":
        return "The data is wrong: no serial order of the transactions gives it.", "bad"
    count = counted(len(outcome.holds), "rule")
    rules = f"{count} {'is' if len(outcome.holds) == 1 else 'are'} true" if outcome.holds else ""
    if outcome.data == "serial":
        said = "The data is right: as if the transactions had run one after another"
        return f"{said}{f', and {rules}' if rules else ''}.", "good"
    if rules:
        return f"At the end {rules}; serial orders were not compared in this run.", "good"
    return "Whether the data is right was not checked in this run.", "faint"


def facts_of(recording: Recording) -> Iterator[tuple[str, str]]:
    """What and where."""
    info = recording.target
    private = ", a private server" if info.private else ""
    standin = ", A STAND-IN, no real server" if info.standin else ""
    if recording.about:
        yield "About", one_line(recording.about)
    yield "Server", f"{rules_of(info.server).title} {info.version} ({info.url}{private}){standin}"
    levels = [f"{one.name}: {one.manner}" for one in recording.transactions]
    if levels:
        yield "Isolation", "; ".join(levels)
    yield "Outcome", recording.outcome.kind
    if recording.source == "run":
        yield "Schedule", " ".join(recording.order)
    lasted = f", {duration(recording.duration_ms)} in all" if recording.duration_ms else ""
    yield "Recorded", f"{recording.started}{lasted}"


def _parts(recording: Recording, detail: Detail) -> Iterator[Part]:
    ran = recording.source in ("run", "loops")
    if detail.figures:
        yield Part("The picture", tuple(_pictures(recording)))
    if recording.schedule and detail.moves:
        yield Part("Move by move", (stepper([("", recording)], detail),))
    story = {section.id: section for section in tell(recording)}
    for title, names in _STORY:
        found = [story[name] for name in names if name in story]
        blocks = [block for section in found for block in _story(section, title, detail)]
        if blocks:
            yield Part(title, tuple(blocks))
    if ran:
        yield Part("Is the data right?", tuple(_end(recording, detail)))
    if "notes" in story:
        yield Part("Notes", tuple(_story(story["notes"], "Notes", detail)))
    yield Part("How to run it again", tuple(_again(recording)))


def _pictures(recording: Recording) -> Iterator[Block]:
    if recording.source in ("run", "loops"):
        yield Figure(
            kind="timeline",
            value=recording,
            caption="Each transaction in a lane of its own: statements, waits, how it ended.",
        )
    if recording.waits or recording.deadlocks:
        yield Figure(
            kind="graph", value=recording, caption="Who waited for whom, over what, in which modes."
        )


def stepper(recordings: Sequence[tuple[str, Recording]], detail: Detail) -> Stepper:
    """The moves of one recording, or of several side by side."""
    return Stepper(columns=tuple(_steps(title, one, detail) for title, one in recordings))


def _steps(title: str, recording: Recording, detail: Detail) -> StepsOf:
    moves = len({move.number for move in recording.schedule})
    left = moves - min(moves, detail.moves)
    return StepsOf(
        title=title,
        transactions=tuple((one.name, one.manner) for one in recording.transactions),
        steps=tuple(steps_of(recording, detail.moves)),
        left_out=f"{counted(left, 'more move')} left out, to keep this short" if left else "",
    )


def _story(section: Section, title: str, detail: Detail) -> Iterator[Block]:
    """A section's lines as points, below its own title where that says more than the part's."""
    if section.title.lower() != title.lower():
        yield Paragraph(section.title, "strong")
    tones: dict[str, Tone] = {"plain": "plain", "wait": "plain"}
    yield Bullets(
        tuple(
            (detail.cut(line.text), tones.get(line.tone, line.tone), max(0, line.indent - 1))
            for line in section.lines
        )
    )


def _end(recording: Recording, detail: Detail) -> Iterator[Block]:
    text, tone = data_sentence(recording)
    yield Paragraph(text, tone)
    if recording.outcome.holds:
        yield Table(
            head=("rule", "query", "at the end"),
            rows=tuple(
                (
                    title,
                    one_line(recording.holds_sql.get(title, "")),
                    "true" if value else "the query failed" if value is None else "NOT true",
                )
                for title, value in recording.outcome.holds.items()
            ),
            marked=tuple(
                (number, "bad")
                for number, value in enumerate(recording.outcome.holds.values())
                if value is not True
            ),
        )
    for name, table in recording.rows.items():
        shown = table.rows[: detail.rows]
        left = table.total - len(shown)
        more = f"; {counted(left, 'more row')} left out" if left > 0 else ""
        yield Table(
            head=table.columns,
            rows=tuple(
                tuple("NULL" if cell is None else detail.cut(cell) for cell in row) for row in shown
            ),
            caption=f"{name} at the end{more}",
        )


def _again(recording: Recording) -> Iterator[Block]:
    info = recording.target
    if recording.definition is None:
        yield Paragraph("This recording carries no scenario.", "faint")
        if recording.source == "log":
            yield Paragraph("A scenario that reproduces it is made of the log itself:")
            yield Code("catenum restage FILE -o scenario.yaml", "shell")
        return
    yield Paragraph(
        "Save the scenario below as scenario.yaml. It has the order, the levels and the data of"
        " this run; the schedule is made of moves, not of pauses, so it runs the same each time."
    )
    target = f"local:{info.server}" if info.private or info.standin else info.url
    yield Code(f"catenum play scenario.yaml --target {shlex.quote(target)}", "shell")
    yield Code(as_text(recording.definition), "yaml")
    yield versions(recording)


def versions(recording: Recording) -> Table:
    """What it ran on: versions, and the server's settings that decide about locks."""
    info = recording.target
    rows = [
        ("Catenum", __version__),
        (rules_of(info.server).title, info.version),
        ("isolation level by default", info.default_isolation),
        *recording.settings.items(),
    ]
    return Table(head=("", "it ran on"), rows=tuple(rows), caption="Versions and settings")
