"""Describes the state of a running server: chains under their head blockers, cycles, idle open
transactions.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from datetime import datetime, timedelta
from functools import cache

from catenum.core.record.waits import Branch, Edge
from catenum.core.report.lines import Line, Section, tree_lines
from catenum.core.servers import rules_of
from catenum.core.snapshot.sample import Sample, SessionInfo, Suspect
from catenum.core.text import called, counted, duration, listed, one_line

#: Open idle transactions that are listed; of more, the number is shown.
MOST_IDLE = 12
STATEMENT_WIDTH = 100
#: Suspects of one wait that are described; of more, the number is shown.
MOST_SUSPECTS = 5
#: A timeout of this (ms) and more ends nothing that anybody waits for.
LONG_TIMEOUT_MS = 3_600_000.0
#: Lengths of time that differ by no more than this are told as one (ms).
SHORT_MS = 100.0


def tell_sample(sample: Sample) -> list[Section]:
    """The sample in sections; who waits comes first."""
    graph = sample.graph
    sections = []
    for cycle in graph.cycles():
        sections.append(_cycle(sample, cycle))
    for head in graph.heads():
        sections.append(_chain(sample, head))
    sections.append(_idle(sample))
    if sample.locks:
        sections.append(_locks(sample))
    sections.append(_cost(sample))
    return [section for section in sections if section.lines]


def tell_across(sample: Sample) -> list[Section]:
    """What goes over several servers: chains and cycles, and how it is known that sessions belong
    together.
    """
    graph = sample.graph
    sections = [_cycle(sample, cycle) for cycle in graph.cycles()]
    sections += [_chain(sample, head) for head in graph.heads()]
    notes = tuple(Line(note, "faint") for note in sample.notes)
    return [*sections, *([Section("How these sessions belong together", notes)] if notes else [])]


def headline_of(sample: Sample) -> str:
    """One sentence: who waits, under how many heads, for how long."""
    waiters = sample.graph.waiters
    if not waiters:
        idle = sample.idle_open
        tail = (
            f"; {len(idle)} open transaction{'s' if len(idle) != 1 else ''} doing nothing"
            if idle
            else ""
        )
        nobody = "Nobody waits for a lock"
        if sample.blind is not None:
            nobody = f"Blind, so nobody is seen to wait for a lock: {sample.blind}"
        return f"{nobody}{tail}."
    heads = sample.graph.heads()
    cycles = len(sample.graph.cycles())
    under = (
        f"under {len(heads)} head blocker{'s' if len(heads) != 1 else ''}"
        if heads
        else "in a cycle"
    )
    cycle = f", {cycles} cycle{'s' if cycles != 1 else ''}" if cycles and heads else ""
    count = (
        f"{len(waiters)} session{'s' if len(waiters) != 1 else ''}"
        f" wait{'s' if len(waiters) == 1 else ''}"
    )
    return (
        f"{count} for locks {under}{cycle}; the longest for {duration(sample.longest_wait_ms)}, "
        f"longest chain {sample.graph.longest_chain()}."
    )


def _chain(sample: Sample, head: str) -> Section:
    graph = sample.graph
    session = sample.session(head)
    direct = len({edge.waiter for edge in graph.edges if edge.holder == head})
    held_up = graph.held_up_by(head)
    longest = max((sample.waited_ms(name) for name in held_up), default=0.0)
    count = f"{direct} directly, {len(held_up)} in all"
    held = sample.holds_up(head)
    title = (
        f"Head blocker: {called(head)} blocks {count}, for"
        f" {'' if held.exact else 'at most '}{duration(held.ms)}"
    )
    if longest > max(2 * held.ms, held.ms + SHORT_MS):
        title += f"; the longest of them has waited {duration(longest)}, for others before it"
    tree = graph.tree(head, oldest_first=True)
    about = (
        _about(sample, session)
        if head in sample.by_id or head.isdigit()
        else _suspected(sample, held_up)
    )
    kind = cache(rules_of(sample.target.server).sql.shape)

    def alike(branch: Branch) -> object:
        statement = sample.session(branch.name).statement
        edge = branch.edge
        return (
            kind(statement) if statement else None,
            edge and (edge.resource.identity, edge.wanted, edge.queued),
        )

    def more(branches: Sequence[Branch]) -> str:
        waits = sorted(sample.waited_ms(branch.name) for branch in branches)
        names = listed([branch.name for branch in branches])
        return (
            f"and {len(branches)} more like these wait {duration(waits[0])} to"
            f" {duration(waits[-1])}: {names}"
        )

    lines = [
        *about,
        *tree_lines(tree, lambda branch: _waiter(sample, branch), alike=alike, more=more),
    ]
    return Section(title, tuple(lines))


def _about(sample: Sample, session: SessionInfo) -> Iterator[Line]:
    yield Line(_identity(session), "strong")
    yield Line(_doing(session, sample.at), "plain")
    if session.statement:
        word = "its last statement" if session.state == "idle in a transaction" else "its statement"
        yield Line(f"{word}: {_statement(session)}", "plain")
    before = (
        session.earlier[:-1] if session.earlier[-1:] == (session.statement,) else session.earlier
    )
    if before:
        kept = (
            "the last ones that the server has" if session.earlier_cut else "as the server has it"
        )
        yield Line(f"before that in its transaction, {kept}:", "plain")
        for text in before:
            yield Line(one_line(text, STATEMENT_WIDTH), "plain", indent=2)
    if session.took and (before or session.took != session.statement):
        yield Line(
            f"took what is waited for with: {one_line(session.took, STATEMENT_WIDTH)}", "plain"
        )


def _suspected(sample: Sample, waiters: Collection[str]) -> Iterator[Line]:
    """Who the one may be that the server does not name, the likeliest first."""
    for name in sorted({suspect.waiter for suspect in sample.suspects} & set(waiters)):
        suspects = [one for one in sample.suspects if one.waiter == name]
        for suspect in suspects[:MOST_SUSPECTS]:
            session = sample.session(suspect.session)
            yield Line(f"suspect for session {name}: {_identity(session)}", "strong")
            yield Line(f"{suspect.why}; {_doing(session)}", "plain", indent=2)
            if session.statement:
                yield Line(_statement(session), "plain", indent=2)
        yield from _others(suspects[MOST_SUSPECTS:])


def _others(suspects: Sequence[Suspect]) -> Iterator[Line]:
    reasons = Counter(suspect.why for suspect in suspects)
    for why, count in reasons.items():
        yield Line(f"and {counted(count, 'other session')}: {why}", "plain", indent=2)


def _identity(session: SessionInfo) -> str:
    if session.background and session.user is None:
        kind = f"{session.kind}, " if session.kind else ""
        return f"session {session.id}, {kind}a process of the server itself"
    parts = [
        called(session.id),
        f"user {session.user or 'not reported'}",
        f"application {session.application or 'not reported'}",
        _from(session),
        f"in {session.database or 'not reported'}",
        f"since {session.started}" if session.started else "start not reported",
    ]
    if session.background:
        kind = f"{session.kind}, " if session.kind else ""
        parts.append(f"{kind}a process of the server itself")
    if session.traceparent:
        parts.append(f"trace {session.traceparent}")
    return ", ".join(parts)


def _from(session: SessionInfo) -> str:
    port = f" port {session.port}" if session.port else ""
    process = f", process {session.process} there" if session.process else ""
    return f"from {session.host or 'not reported'}{port}{process}"


def clock_time(at: str, before_ms: float) -> str:
    """When something began that has lasted for so long, by the clock, in UTC; with the day where it
    is another.
    """
    now = datetime.fromisoformat(at)
    began = now - timedelta(milliseconds=before_ms)
    return (
        f"{began:%H:%M:%S} UTC" if began.date() == now.date() else f"{began:%Y-%m-%d %H:%M:%S} UTC"
    )


def _since(at: str | None, before_ms: float | None) -> str:
    return (
        f" (since {clock_time(at, before_ms)})" if at is not None and before_ms is not None else ""
    )


def _doing(session: SessionInfo, at: str | None = None) -> str:
    """State and ages, and the isolation level where the server reports it. ``at``: when the server
    was checked.
    """
    state = {
        "working": "working",
        "waits for a lock": "waiting for a lock",
        "waits": f"waiting for {session.waits_on or 'something else'}",
        "idle in a transaction": "idle in its open transaction",
        "idle": "idle",
        "not visible": "what it does is not visible to this login",
        "not reported": "state not reported",
    }[session.state]
    since = f" for {duration(session.state_ms)}" if session.state_ms is not None else ""
    age = (
        f"; transaction open for {duration(session.transaction_ms)}"
        if session.transaction_ms is not None
        else ""
    )
    age += _since(at, session.transaction_ms)
    rows = (
        f"; {counted(session.rows_changed, 'row')} changed"
        if session.rows_changed is not None
        else ""
    )
    if session.killed:
        state = "ended by somebody, and not gone yet"
    if session.undoing:
        state = "ended by somebody, rolling back" if session.killed else "rolling back"
        rows = f"; {session.rows_changed} changed rows left" if rows else ""
    level = "" if session.background else f"; isolation level {session.isolation}"
    return f"{state}{since}{age}{level}{rows}"


def _statement(session: SessionInfo) -> str:
    text = one_line(session.statement or "", STATEMENT_WIDTH)
    return f"{text} (cut by the server)" if session.cut else text


def _waiter(sample: Sample, branch: Branch) -> str:
    session = sample.session(branch.name)
    edge = branch.edge
    over = (
        f" over {edge.resource.text}: wants {edge.wanted}{_held(edge)}" if edge is not None else ""
    )
    who = ", ".join(
        part for part in (session.kind, session.user, session.application, session.host) if part
    )
    held_up = len(sample.graph.held_up_by(branch.name))
    also = f"; blocks {held_up} itself" if held_up else ""
    text = f" — {_statement(session)}" if session.statement else ""
    name = f"{called(branch.name)}{f' ({who})' if who else ''}"
    age = (
        f", transaction {duration(session.transaction_ms)}"
        if session.transaction_ms is not None
        else ""
    )
    level = f", {session.isolation}" if session.isolation != "not reported" else ""
    length, timeout = _length(sample, branch.name), _timeout(sample, branch.name)
    trace = f", trace {session.traceparent}" if session.traceparent else ""
    return f"{name} waits {length}{over}{also}{age}{level}{timeout}{trace}{text}"


def _length(sample: Sample, name: str) -> str:
    if all(edge.since_ms is None for edge in sample.graph.waits_of(name)):
        return "(for how long is not reported)"
    most = "at most " if name in sample.inexact else ""
    since = _since(sample.at, sample.waited_ms(name)) if name not in sample.inexact else ""
    waited, runs = sample.waited_ms(name), sample.stuck_ms(name)
    # PostgreSQL counts a wait for a hot row anew with each that comes to hold it.
    statement = f" (its statement has run for {duration(runs)})" if runs > waited + SHORT_MS else ""
    return f"{most}{duration(waited)}{since}{statement}"


def _timeout(sample: Sample, name: str) -> str:
    """Whether its own timeout ends the wait before anybody has to."""
    found = next((one for one in sample.timeouts if one.session == name), None)
    if found is None or found.ms >= LONG_TIMEOUT_MS:
        return ""
    left = found.ms - sample.waited_ms(name)
    when = f"within {duration(left)}" if left > 0 else "at any moment"
    whose = "" if found.own else ", if it has no other setting"
    return f"; its timeout of {duration(found.ms)} ends it {when}{whose}"


def _held(edge: Edge) -> str:
    if edge.queued:
        return f", behind {edge.holder} in the queue"
    return f", {edge.holder} holds {edge.held}" if edge.held else ""


def _cycle(sample: Sample, cycle: tuple[Edge, ...]) -> Section:
    lines = []
    for edge in cycle:
        session = sample.session(edge.waiter)
        lines.append(
            Line(f"{called(edge.waiter)} waits for {edge.holder} over {edge.resource.text}", "bad")
        )
        lines.append(Line(f"{_identity(session)}", "faint", indent=2))
        if session.statement:
            lines.append(Line(_statement(session), indent=2))
    members = {edge.waiter for edge in cycle}
    behind = sorted({name for one in members for name in sample.graph.held_up_by(one)} - members)
    for edge in (edge for name in behind for edge in sample.graph.waits_of(name)):
        text = (
            f"{called(edge.waiter)} waits behind the cycle, for {edge.holder} over"
            f" {edge.resource.text}"
        )
        lines.append(Line(text, "strong"))
        if sample.session(edge.waiter).statement:
            lines.append(Line(_statement(sample.session(edge.waiter)), indent=2))
    title = "A cycle: a deadlock that the server has not ended yet"
    if any(not edge.waiter.isdigit() for edge in cycle):
        title = (
            "A cycle across servers: none of them sees it, and none ends it; end one of these"
            " sessions"
        )
    return Section(title, tuple(lines))


def _holding(sample: Sample, name: str, heads: Collection[str]) -> str:
    """Whether others wait for a session, as far as that is known."""
    held_up = len(sample.graph.held_up_by(name))
    suspected = [suspect.waiter for suspect in sample.suspects if suspect.session == name]
    if held_up:
        return f"blocks {held_up}" + ("" if name in heads else " and waits itself")
    if suspected:
        return f"may be the one that session {listed(suspected)} waits for"
    unnamed = any(edge.holder not in sample.by_id for edge in sample.edges)
    return (
        "nobody is seen to wait for it"
        if unnamed or sample.partial
        else "nobody on this server waits for it yet"
    )


def _idle(sample: Sample) -> Section:
    idle = sample.idle_open
    heads = set(sample.graph.heads())
    lines = []
    for session in idle[:MOST_IDLE]:
        who = ", ".join(part for part in (session.user, session.application, session.host) if part)
        holds = f"; {_holding(sample, session.id, heads)}"
        age, idles = duration(session.transaction_ms), duration(session.state_ms)
        lines.append(Line(f"session {session.id} ({who}): open for {age}, idle for {idles}{holds}"))
        if session.statement:
            lines.append(Line(f"last: {_statement(session)}", "faint", indent=2))
    if len(idle) > MOST_IDLE:
        lines.append(Line(f"… and {len(idle) - MOST_IDLE} more", "faint"))
    return Section("Open transactions that do nothing, the oldest first", tuple(lines))


def _locks(sample: Sample) -> Section:
    lines = [
        Line(
            f"{entry.transaction} {'has' if entry.granted else 'WAITS for'} {entry.mode} on"
            f" {entry.resource.text}"
        )
        for entry in sample.locks
    ]
    return Section("Locks of the sessions in a chain", tuple(lines))


def _cost(sample: Sample) -> Section:
    cost = f"this check took {sample.cost_ms:.1f} ms and read {sample.rows_read} rows"
    text = f"{sample.connected} sessions connected; {cost}"
    if sample.deadlocks is not None:
        text += (
            f"; {sample.deadlocks} deadlock{'s' if sample.deadlocks != 1 else ''} since the"
            " server's statistics began"
        )
    lines = [Line(text, "faint"), *(Line(note, "faint") for note in sample.notes)]
    return Section("The check itself", tuple(lines))
