"""What a watch has to say: events as sentences, and as JSON lines (``catenum-watch/1``)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from catenum.core.record.recording_file import to_plain
from catenum.core.snapshot.alarms import Alarm
from catenum.core.snapshot.incidents import Head, Incident
from catenum.core.snapshot.sample import Sample
from catenum.core.snapshot.sample_recording import recording_of
from catenum.core.text import duration

FORMAT = "catenum-watch/1"
What = Literal[
    "began",
    "ended",
    "long",
    "many",
    "idle",
    "deadlocks",
    "clear",
    "deadlock",
    "report",
    "lost",
    "back",
    "blind",
    "sees",
    "trouble",
    "note",
    "store",
]


@dataclass(frozen=True, kw_only=True)
class WatchEvent:
    """One thing that a watch has to say."""

    what: What
    server: str
    at: str
    text: str
    incident: Incident | None = None
    report: str | None = None
    alarm: Alarm | None = None


def began_text(incident: Incident, sample: Sample) -> str:
    if incident.cycle:
        return (
            f"a cycle of {incident.worst_waiting} sessions, with {incident.head.who}: over"
            f" {incident.over}"
        )
    waiting = len(sample.graph.held_up_by(incident.head.id))
    return f"session {incident.head.who} blocks {waiting}: over {incident.over}"


def across_text(incident: Incident) -> str:
    """That sessions of several servers wait for each other."""
    cycle = next(iter(incident.worst.graph.cycles()), ())
    names = " → ".join([*(edge.waiter for edge in cycle), *(edge.waiter for edge in cycle[:1])])
    return (
        f"a deadlock across servers, which none of them ends: {names}; it goes on until one of"
        " these is ended"
    )


def ended_text(incident: Incident) -> str:
    worst = f"{incident.worst_waiting} at the worst"
    longest = f"longest wait {duration(incident.longest_ms)}, over {incident.over}"
    if incident.cycle:
        return f"the cycle with {incident.head.who} is over: {worst}, {longest}"
    if incident.head_count > 1:
        held = incident.longest_held
        typical = (
            f", median {duration(incident.typical_ms)}" if incident.typical_ms is not None else ""
        )
        most = "" if held.exact else "at most "
        heads = (
            f"{incident.head_count} heads were seen, {most}{duration(held.held_ms)} at the"
            f" longest{typical}"
        )
        return f"nobody is blocked any more: {heads}; {worst}, chain of {incident.chain}, {longest}"
    return (
        f"session {incident.head.who} blocks nobody any more: {worst}, chain of {incident.chain},"
        f" {longest}"
    )


def event_value(reported: WatchEvent, *, recording: bool = False) -> dict[str, Any]:
    """What was reported as plain values, one JSON line."""
    value: dict[str, Any] = {
        "format": FORMAT,
        "event": reported.what,
        "server": reported.server,
        "at": reported.at,
        "text": reported.text,
    }
    if reported.report is not None:
        value["report"] = reported.report
    incident, alarm = reported.incident, reported.alarm
    if alarm is not None:
        value["alarm"] = {
            "id": f"{reported.server}/{alarm.id}",
            "sessions": list(alarm.sessions),
            "age_ms": round(alarm.age_ms, 1) if alarm.age_ms is not None else None,
            "count": alarm.count,
            "limit": alarm.limit,
        }
    if incident is not None:
        value["incident"] = {
            "id": incident.number,
            "head": _head_value(incident.longest_held),
            "heads": incident.head_count,
            "typical_ms": (
                round(incident.typical_ms, 1) if incident.typical_ms is not None else None
            ),
            "object": incident.over,
            "cycle": incident.cycle,
            "first_seen": incident.first_seen,
            "last_seen": incident.last_seen,
            "ended": incident.ended,
            "waiting": incident.worst_waiting,
            "chain": incident.chain,
            "wait_ms": round(incident.wait_ms, 1),
            "longest_ms": round(incident.longest_ms, 1),
            "statements": list(incident.statements.get(incident.head.id, ())),
        }
        if recording:
            value["recording"] = to_plain(
                recording_of(incident.worst, incident.statements, title="incident")
            )
    return value


def _head_value(head: Head) -> dict[str, Any]:
    session = head.session
    return {
        "session": session.id,
        "started": session.started,
        "user": session.user,
        "application": session.application,
        "host": session.host,
        "database": session.database,
        "held_ms": round(head.held_ms, 1),
        "exact": head.exact,
        "trace": session.traceparent,
    }


#: What is worth waking somebody for, and what a person should know.
_ERRORS = ("deadlock", "deadlocks", "lost", "blind", "store", "trouble")
_WARNINGS = ("began", "long", "many", "idle")


def log_value(reported: WatchEvent) -> dict[str, Any]:
    """What was reported as one flat line for a log collector."""
    level = (
        "error" if reported.what in _ERRORS else "warning" if reported.what in _WARNINGS else "info"
    )
    value: dict[str, Any] = {
        "time": reported.at,
        "level": level,
        "logger": "catenum.watch",
        "event": reported.what,
        "server": reported.server,
        "message": reported.text,
    }
    incident = reported.incident
    if incident is not None:
        head = incident.longest_held.session
        value |= {
            "incident": incident.number,
            "object": incident.over,
            "waiting": incident.worst_waiting,
            "longest_ms": round(incident.longest_ms, 1),
            "session": head.id,
            "application": head.application,
        }
        if head.traceparent is not None:
            _, trace, span, _ = head.traceparent.split("-")
            value |= {"trace_id": trace, "span_id": span}
    return {key: one for key, one in value.items() if one is not None}
