"""The story of a recording, in words that a colleague can follow.

Built as data: sections of lines, each with a tone, so that every face tells the same story and
tests can read it. Nothing is said that the recording does not show.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

from catenum.core.record.outcome import MEANING
from catenum.core.record.recording import Deadlock, Event, Recording, Wait
from catenum.core.record.waits import Branch, WaitGraph
from catenum.core.report.after_error import what_follows
from catenum.core.report.headline import headline
from catenum.core.report.lines import MOST_ALIKE, Line, Section, Tone, tree_lines
from catenum.core.report.paths import plan_lines, small_tables
from catenum.core.servers import rules_of
from catenum.core.text import called, decided, duration, listed, named, one_line, with_values

#: A server's own report of at most so many lines is shown as it is.
SHORT_REPORT = 8


def tell(recording: Recording) -> list[Section]:
    """The whole story, most important first."""
    return [
        replace(part, id=name) for name, make in PARTS.items() if (part := make(recording)).lines
    ]


# -- the headline ----------------------------------------------------------------------------------


def _headline(recording: Recording) -> Section:
    outcome = recording.outcome
    bad = outcome.kind not in ("clean", "waited") or bool(outcome.broken_rules)
    return Section(
        f"{outcome.kind}: {_meaning(recording)}",
        (Line(headline(recording), "bad" if bad else "good", hang=0),),
    )


# -- cycles and chains -----------------------------------------------------------------------------


def _cycles(recording: Recording) -> Section:
    lines = []
    for deadlock in recording.deadlocks:
        names = [member.transaction for member in deadlock.members]
        lines.append(Line(ring(names), "strong"))
        for member in deadlock.members:
            mark = "  ← the victim" if member.transaction == deadlock.victim else ""
            held = listed(list(member.holds)) if member.holds else "nothing known"
            lines.append(
                Line(
                    f"{member.transaction} ({member.isolation}) held {held}; wanted"
                    f" {f'{member.resource.text} {member.wanted}'.strip()}, which"
                    f" {member.waits_for} {'asked for first' if member.queued else 'held'}{mark}",
                    "bad" if mark else "plain",
                    indent=2,
                )
            )
        lines.append(Line(_agreement(recording, deadlock), "faint", indent=2))
    return Section("The deadlock cycle", tuple(lines))


def ring(names: Sequence[str]) -> str:
    """A cycle in one line. A single name is a victim whose cycle neither a check nor the server's
    report told.
    """
    if len(names) == 1:
        return (
            f"{names[0]} → ?   (the rest of the cycle was not seen: it was over before the server"
            " could be asked)"
        )
    return " → ".join([*names, names[0]]) + "   (each waits for the next)"


def _agreement(recording: Recording, deadlock: Deadlock) -> str:
    if recording.source == "log":
        return "As the server's own log reports it"
    if recording.source == "sample" and deadlock.victim is None:
        return "Catenum saw the closed cycle while it stood"
    seen = f"Catenum saw the closed cycle at {duration(deadlock.at_ms)}"
    if deadlock.verdict_ms is None:
        return f"{seen}; the server did not end it"
    if len(deadlock.members) == 1:
        return (
            f"The server's verdict came at {duration(deadlock.verdict_ms)}, and no report of the"
            " cycle with it"
        )
    if deadlock.verdict_ms <= deadlock.at_ms:
        reported = (
            "its report names the cycle"
            if deadlock.server_report
            else "no check saw the cycle closed"
        )
        return f"The server's verdict came first, at {duration(deadlock.verdict_ms)}; {reported}"
    verdict = "the server's verdict agreed" if deadlock.agreed else "the server's verdict DIFFERED"
    return f"{seen}; {verdict}, {duration(deadlock.verdict_ms - deadlock.at_ms)} later"


def _chains(recording: Recording) -> Section:
    if recording.deadlocks:
        return Section("", ())
    move, graph = recording.worst_graph()
    lines = []
    for head in graph.heads():
        tree = graph.tree(head)
        lines.append(Line(_head_line(recording, graph, head, move), "strong"))
        lines.extend(tree_lines(tree, _branch_text(recording, move)))
    when = f" (after move {move}, when most did)" if recording.made else ""
    return Section(f"Who waited for whom{when}", tuple(lines))


def _head_line(recording: Recording, graph: WaitGraph, head: str, move: int) -> str:
    direct = len({edge.waiter for edge in graph.edges if edge.holder == head})
    everyone = len(graph.held_up_by(head))
    counts = f"head blocker: blocks {direct} directly, {everyone} in all"
    return f"{head}   {counts}; {_doing(recording, head, move)}"


def _doing(recording: Recording, name: str, move: int) -> str:
    """What a head blocker is doing at that moment: most often nothing."""
    record = recording.transaction(name)
    if record is None:
        return "a session outside this run"
    if record.status == "not reported":
        return "its activity is not reported"
    past = [event for event in recording.events if event.transaction == name and event.move <= move]
    if past and past[-1].what == "sent":
        return f"working on: {one_line(past[-1].sql, 60)}"
    done = next((event for event in reversed(past) if event.statement is not None), None)
    if done is None:
        return "idle"
    if past[-1].what == "failed" or past[-1].statement is None or record.status == "idle":
        return (
            "its transaction is over, its session holds on; the last before:"
            f" {one_line(done.sql, 60)}"
        )
    return (
        f"idle in its open transaction after {named(name, done.statement)}:"
        f" {one_line(done.sql, 60)}"
    )


def _branch_text(recording: Recording, move: int) -> Callable[[Branch], str]:
    def text(child: Branch) -> str:
        wait = next(
            (
                w
                for w in recording.waits_during(move)
                if child.edge is not None
                and w.waiter == child.name
                and w.holder == child.edge.holder
            ),
            None,
        )
        return f"{child.name} waits" if wait is None else _wait_line(wait)

    return text


def _wait_line(wait: Wait) -> str:
    """One wait in words: who, over what, which modes, since which statement of the holder, how
    long.
    """
    since = f" since {wait.holder} {wait.holder_numbers}" if wait.holder_numbers else ""
    if wait.queued:
        why = f"behind {wait.holder}, which is ahead in the queue for {wait.held or 'it'}{since}"
    else:
        why = f"{wait.holder} holds {wait.held or 'a lock on it'}{since}"
    lasted = "to the end " if wait.until_ms is None else f"for {duration(wait.length_ms)} "
    if wait.until_ms is None and wait.ended != "lasted":
        lasted = ""  # it ended, and nobody reports when
    return (
        f"{named(wait.waiter, wait.statement)} waits {lasted}over {wait.resource.text}: wants"
        f" {wait.wanted}; {why}"
    )


# -- statements and rules --------------------------------------------------------------------------


def _histories(recording: Recording) -> Section:
    involved = {wait.waiter for wait in recording.waits} | {wait.holder for wait in recording.waits}
    involved |= {event.transaction for event in recording.events if event.error}
    if recording.outcome.broken_rules:
        involved |= {record.name for record in recording.transactions}
    lines: list[Line] = []
    ran: dict[str, list[Event]] = {}
    for event in recording.events:
        if event.what in ("sent", "failed", "passed"):
            ran.setdefault(event.transaction, []).append(event)
    alike: dict[object, list[str]] = {}
    for record in recording.transactions:
        if record.name not in involved:
            continue
        kind = (
            record.isolation,
            record.status,
            tuple((event.what, event.sql) for event in ran.get(record.name, ())),
        )
        same = alike.setdefault(kind, [])
        same.append(record.name)
        if len(same) > MOST_ALIKE:
            continue
        tries = f", {record.attempts} attempts" if record.attempts > 1 else ""
        asked = "" if record.asked or not recording.made else " by default"
        asked += ", autocommit" if record.autocommit else ""
        lines.append(
            Line(
                f"{record.name}   {record.isolation}{asked}, {called(record.session)}{tries}:"
                f" {record.status_text}",
                "strong",
            )
        )
        for event in ran.get(record.name, ()):
            lines.extend(_step(recording, event))
    for names in alike.values():
        if len(names) > MOST_ALIKE:
            more = names[MOST_ALIKE:]
            lines.append(
                Line(f"{len(more)} more had run the same as {names[0]}: {listed(more)}", "strong")
            )
    return Section("What each had run", tuple(lines))


def _step(recording: Recording, event: Event) -> Iterator[Line]:
    number = f"{event.statement}." if event.statement else "–"
    if event.what == "failed":
        message = event.error.message if event.error else ""
        yield Line(f"✗ {message}", "bad", indent=3)
        follows = what_follows(recording, event) if event.then is not None else ""
        if follows:
            yield Line(f"after that: {follows}", "faint", indent=3)
        return
    if event.what == "passed":
        yield Line(
            f"{number} not run: {decided(event.condition, event.values)}", "faint", indent=2, hang=3
        )
        return
    record = recording.transaction(event.transaction)
    label = (
        record.labels[event.statement - 1] if record and record.labels and event.statement else None
    )
    yield Line(
        f"{number} {one_line(event.sql)}" + (f"   ({label})" if label else ""), indent=2, hang=3
    )
    if event.values:
        yield Line(f"with {with_values(event.values)}", "faint", indent=3)
    plan = recording.plan(event.transaction, event.statement)
    for line in plan_lines(plan, event.sql, rules_of(recording.target.server)) if plan else ():
        yield Line(f"path: {line}", "faint", indent=3)
    done = next(
        (
            e
            for e in recording.events
            if (e.transaction, e.attempt, e.statement, e.what)
            == (event.transaction, event.attempt, event.statement, "done")
        ),
        None,
    )
    if done is not None and done.result is not None and 0 < len(done.result.rows) <= 5:
        rows = "; ".join(
            ", ".join(value if value is not None else "null" for value in row)
            for row in done.result.rows
        )
        if any(
            value != "" for row in done.result.rows for value in row
        ):  # a function may return nothing
            yield Line(f"returned: {rows}", "faint", indent=3)


def _conflicts(recording: Recording) -> Section:
    lines = []
    seen: set[tuple[object, ...]] = set()
    sources: list[str] = []
    for wait in recording.waits:
        key = (
            wait.waiter,
            wait.statement,
            wait.holder,
            wait.holder_numbers,
            wait.resource.identity,
            wait.wanted,
            wait.held,
        )
        if wait.held is None or key in seen:
            continue
        seen.add(key)
        reported = "" if wait.holder_told_by == "server" else " (derived from its text)"
        verb = "asked for" if wait.queued else "took"
        lines.append(
            Line(
                f"{wait.resource.text}: {_holder(wait)} {verb} {wait.held}{reported}; "
                f"{named(wait.waiter, wait.statement)} wanted {wait.wanted}"
            )
        )
        if wait.conflict and wait.conflict not in sources:
            sources.append(wait.conflict)
    lines.extend(Line(f"these modes conflict by {source}", "faint", indent=2) for source in sources)
    return Section("The conflicting statements, mode against mode", tuple(lines))


def _holder(wait: Wait) -> str:
    return f"{wait.holder} {wait.holder_numbers}" if wait.holder_numbers else wait.holder


def _victims(recording: Recording) -> Section:
    lines = []
    for deadlock in recording.deadlocks:
        nobody = "not known" if not recording.made else "nobody"
        lines.append(Line(f"{deadlock.victim or nobody}: {deadlock.rule}."))
        report = (deadlock.server_report or "").splitlines()
        if len(report) > SHORT_REPORT:
            report = [
                f"{report[-1].strip(' *')} (its whole report, {len(report)} lines, is in the"
                " recording)"
            ]
        lines.extend(Line(f"server: {text}", "faint", indent=2) for text in report)
    return Section("Why that victim", tuple(lines))


def _errors(recording: Recording) -> Section:
    lines = []
    word = rules_of(recording.target.server).errors.code_word
    for event in recording.events:
        error = event.error
        if error is None or error.kind == "deadlock" or error.check == "required":
            continue
        code = f" ({word} {error.code})" if error.code else ""
        lines.append(
            Line(f"{named(event.transaction, event.statement)}: {error.message}{code}", "bad")
        )
        if error.position:
            lines.append(
                Line(
                    f"at character {error.position}: {_around(event.sql, error.position)}", indent=2
                )
            )
        lines.extend(
            Line(f"{name}: {text}", "faint", indent=2)
            for name, text in (("detail", error.detail), ("hint", error.hint))
            if text
        )
    return Section("What the server said", tuple(lines))


def _around(sql: str, position: int) -> str:
    start = max(0, position - 1)
    return one_line(sql[start : start + 40])


def _findings(recording: Recording) -> Section:
    lines = []
    for finding in recording.findings:
        lines.append(Line(finding.title + f"   [{finding.id}]", "strong"))
        lines.extend(Line(f"· {text}", indent=2) for text in finding.evidence)
        lines.extend(Line(f"→ {text}", "good", indent=2) for text in finding.advice)
    return Section("Findings", tuple(lines))


# -- the end ---------------------------------------------------------------------------------------


def _end(recording: Recording) -> Section:
    lines = []
    for title, value in recording.outcome.holds.items():
        word = {True: "true", False: "FALSE", None: "NOT CHECKED"}[value]
        tone: Tone = "good" if value else "bad"
        lines.append(Line(f"{word:6} {title}", tone))
        if value is not True and title in recording.holds_sql:
            lines.append(Line(one_line(recording.holds_sql[title]), "faint", indent=3))
    for table, content in recording.rows.items():
        more = (
            f" (first {len(content.rows)} of {content.total})"
            if content.total > len(content.rows)
            else ""
        )
        lines.append(Line(f"{table}{more}", "strong"))
        lines.extend(Line(text, indent=2) for text in _grid(content.columns, content.rows[:20]))
        if len(content.rows) > 20:
            lines.append(Line(f"… {content.total - 20} more rows", "faint", indent=2))
    return Section("The end: rules and rows", tuple(lines))


def _grid(columns: tuple[str, ...], rows: tuple[tuple[str | None, ...], ...]) -> Iterator[str]:
    cells = [
        list(columns),
        *[["null" if value is None else one_line(value, 40) for value in row] for row in rows],
    ]
    widths = [max(len(row[i]) for row in cells) for i in range(len(columns))]
    for row in cells:
        yield "  ".join(
            value.ljust(width) for value, width in zip(row, widths, strict=True)
        ).rstrip()


def _notes(recording: Recording) -> Section:
    lines = [Line(note) for note in recording.notes]
    for status, what in (("left open", "left open"), ("cut off", "still under way")):
        names = [r.name for r in recording.transactions if r.status == status and recording.made]
        if names:
            was = "was" if len(names) == 1 else "were"
            lines.append(
                Line(
                    f"{listed(names)} {was} {what} when the last move was made; Catenum then rolled"
                    " back."
                )
            )
    lines.extend(Line(text) for text in small_tables(recording))
    if recording.target.standin:
        lines.insert(0, Line("These answers come from a stand-in, not from a real server.", "bad"))
    notes = {picture.note for picture in recording.pictures if picture.note}
    lines.extend(Line(note) for note in sorted(notes))
    return Section("Notes", tuple(lines))


#: The parts of the story by their ids, in order.
PARTS: dict[str, Callable[[Recording], Section]] = {
    "headline": _headline,
    "cycles": _cycles,
    "chains": _chains,
    "histories": _histories,
    "conflicts": _conflicts,
    "victims": _victims,
    "errors": _errors,
    "findings": _findings,
    "end": _end,
    "notes": _notes,
}


def _meaning(recording: Recording) -> str:
    if recording.outcome.kind == "waited" and any(
        wait.ended != "went on" for wait in recording.waits
    ):
        return "a transaction waited for a lock"  # a log does not say of every wait how it ended
    return MEANING[recording.outcome.kind]
