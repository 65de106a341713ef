"""An exploration as a document: the outcomes, the shortest schedule to each, what is proven."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping

from catenum.core.document.blocks import (
    Block,
    Bullets,
    Code,
    Details,
    Document,
    Figure,
    Paragraph,
    Part,
    Table,
    Tone,
)
from catenum.core.document.detail import Detail
from catenum.core.document.recording import stepper, versions
from catenum.core.record.recording import Recording
from catenum.core.scenario.writing import as_text
from catenum.core.servers import rules_of
from catenum.core.space.claims import claims, describe_outcome
from catenum.core.space.exploration import Exploration, how_far, letter_of
from catenum.core.space.tally import OutcomeEntry
from catenum.core.text import counted, duration, one_line


def document_of(
    found: Exploration, recordings: Mapping[str, Recording], detail: Detail
) -> Document:
    """``recordings``: of outcomes, by their letters."""
    levels = set(found.levels.values())
    name = f"{found.scenario} at {levels.pop()}" if len(levels) == 1 else found.scenario
    which = "every schedule" if found.reach.complete else "schedules"
    return Document(
        title=f"{name}: {which} that can differ",
        summary=tuple(summary_of(found)),
        facts=tuple(_facts(found)),
        parts=tuple(_parts(found, recordings, detail)),
        standin=found.target.standin,
    )


def summary_of(found: Exploration) -> Iterator[tuple[str, Tone]]:
    """How many schedules end badly, how far that is proven, and the worst of it."""
    tally = found.tally
    whole = "all that can differ" if found.reach.complete else "NOT all: the rest was not run"
    if tally.bad:
        text = (
            f"{tally.bad:,} of {counted(tally.schedules, 'schedule')} end in a conflict ({whole})."
        )
        yield text, "bad"
    else:
        tone: Tone = "good" if found.reach.complete else "plain"
        yield f"None of {counted(tally.schedules, 'schedule')} ends in a conflict ({whole}).", tone
    for claim in claims(found)[:2]:
        yield sentence(claim.text), _tone(claim.good)


def sentence(text: str) -> str:
    """A claim as a sentence."""
    return f"{text[:1].upper()}{text[1:]}."


def _tone(good: bool | None) -> Tone:
    return "good" if good else "plain" if good is None else "bad"


def _facts(found: Exploration) -> Iterator[tuple[str, str]]:
    info = found.target
    standin = ", A STAND-IN, no real server" if info.standin else ""
    if found.about:
        yield "About", one_line(found.about)
    yield "Server", f"{rules_of(info.server).title} {info.version} ({info.url}){standin}"
    yield "Isolation", "; ".join(f"{name}: {level}" for name, level in found.levels.items())
    yield "Run", f"{how_far(found)}; {duration(found.ran_ms)}"


def _parts(
    found: Exploration, recordings: Mapping[str, Recording], detail: Detail
) -> Iterator[Part]:
    if detail.figures:
        caption = "Where in the space the outcomes are, and which moves lead there."
        yield Part("The map of outcomes", (Figure(kind="map", value=found, caption=caption),))
    yield Part("Outcomes", tuple(_outcomes(found, recordings, detail)))
    yield Part("What is proven, and what is not", tuple(_claims(found)))
    if found.tally.cycles:
        yield Part("Deadlock cycles", tuple(_cycles(found)))
    if found.tally.wait_pairs:
        yield Part("Who waits for whom", (_waits(found),))
    yield Part("How to run it again", tuple(_again(found, recordings)))


def _outcomes(
    found: Exploration, recordings: Mapping[str, Recording], detail: Detail
) -> Iterator[Block]:
    total = max(1, found.tally.schedules)
    entries = [(letter_of(number), entry) for number, entry in enumerate(found.outcomes)]
    yield Table(
        head=("", "outcome", "data", "schedules", "share", "what", "shortest schedule"),
        rows=tuple(
            (
                letter,
                entry.kind,
                entry.anomaly or entry.data,
                f"{entry.count:,}",
                f"{entry.count / total:.0%}",
                describe_outcome(entry),
                " ".join(entry.shortest or ()),
            )
            for letter, entry in entries
        ),
        numbers=(3, 4),
        marked=tuple((n, "bad") for n, (_, entry) in enumerate(entries) if entry.bad),
        links=tuple((n, f"outcome-{letter}") for n, (letter, _) in enumerate(entries)),
    )
    shown = 0
    for letter, entry in entries:
        recording = recordings.get(letter) if shown < detail.recordings else None
        shown += recording is not None
        yield Details(
            title=f"{letter}  {entry.kind}, data {entry.anomaly or entry.data}",
            anchor=f"outcome-{letter}",
            blocks=tuple(_outcome(entry, recording, detail)),
        )


def _outcome(entry: OutcomeEntry, recording: Recording | None, detail: Detail) -> Iterator[Block]:
    if entry.evidence:
        yield Bullets(tuple((text, "plain", 0) for text in entry.evidence))
    if entry.shortest:
        yield Paragraph("The shortest schedule that leads there:")
        order = shlex.quote(" ".join(entry.shortest))
        yield Code(f"catenum play scenario.yaml --order {order}", "shell")
    if recording is None:
        yield Paragraph("No recording of it is shown here.", "faint")
        return
    yield stepper([("", recording)], detail)


def _claims(found: Exploration) -> Iterator[Block]:
    yield Paragraph(sentence(how_far(found)), "good" if found.reach.complete else "strong")
    yield Bullets(tuple((sentence(one.text), _tone(one.good), 0) for one in claims(found)))
    left = [f"Left out of comparisons: {name} ({why})" for name, why in found.ignored.items()]
    if left or found.notes:
        yield Bullets(tuple((text, "faint", 0) for text in (*left, *found.notes)))


def _cycles(found: Exploration) -> Iterator[Block]:
    for cycle in found.tally.most_met_cycles():
        fell = ", ".join(f"{name} {count}×" for name, count in sorted(cycle.victims.items()))
        yield Paragraph(
            f"In {counted(cycle.count, 'schedule')}; victims: {fell or 'none'}", "strong"
        )
        lines: list[tuple[str, Tone, int]] = []
        for place, (name, number) in enumerate(cycle.members):
            others = cycle.members[place + 1 :] or cycle.members[:place]
            following = others[0][0] if others else "a session that was not seen"
            what = f"{name} {number or 'end'} waits for {following} over {cycle.resources[place]}"
            texts = found.statements.get(name, ())
            sql = texts[number - 1] if number and number <= len(texts) else found.ends.get(name, "")
            lines += [(what, "plain", 0), (one_line(sql), "faint", 1)]
        if cycle.unended:
            lines.append((f"the server did not end it in {cycle.unended:,} of them", "bad", 0))
        yield Bullets(tuple(lines))


def _waits(found: Exploration) -> Table:
    pairs = sorted(found.tally.wait_pairs.values(), key=lambda pair: -pair.count)
    return Table(
        head=("waits", "for", "over", "wanted", "schedules"),
        rows=tuple(
            (
                f"{pair.waiter} {pair.statement or 'end'}",
                f"{pair.holder} {pair.holder_numbers}".strip(),
                pair.resource,
                pair.wanted,
                f"{pair.count:,}",
            )
            for pair in pairs
        ),
        numbers=(4,),
    )


def _again(found: Exploration, recordings: Mapping[str, Recording]) -> Iterator[Block]:
    info = found.target
    target = f"local:{info.server}" if info.private or info.standin else info.url
    yield Code(f"catenum explore scenario.yaml --target {shlex.quote(target)}", "shell")
    recording = next((one for one in recordings.values() if one.definition is not None), None)
    if recording is None or recording.definition is None:
        yield Paragraph("The scenario is not among what this was made from.", "faint")
        return
    plain = {name: value for name, value in recording.definition.items() if name != "order"}
    yield Code(as_text(plain), "yaml")
    yield versions(recording)
