"""A sample as plain values: ``"format": "catenum-now/1"``."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime, timedelta
from typing import Any

from catenum.core.record.waits import Branch
from catenum.core.snapshot.sample import Sample, SessionInfo

FORMAT = "catenum-now/1"


def sample_value(sample: Sample) -> dict[str, Any]:
    """All of a sample: sessions, waits, and the tree under each head blocker."""
    graph = sample.graph
    cycles = [[edge.waiter for edge in cycle] for cycle in graph.cycles()]
    return {
        "format": FORMAT,
        "at": sample.at,
        "target": asdict(sample.target),
        "connected": sample.connected,
        "waiting": len(graph.waiters),
        "longest_wait_ms": round(sample.longest_wait_ms, 3),
        "longest_chain": graph.longest_chain(),
        "heads": [
            {
                "session": head,
                "directly": len({edge.waiter for edge in graph.edges if edge.holder == head}),
                "in_all": len(graph.held_up_by(head)),
                "holds_up_ms": round(sample.holds_up(head).ms, 3),
                "exact": sample.holds_up(head).exact,
                "waiting": _branches(graph.tree(head)),
            }
            for head in graph.heads()
        ],
        "cycles": cycles,
        "waits": [
            {
                "waiter": edge.waiter,
                "holder": edge.holder,
                "over": edge.resource.text,
                "kind": edge.resource.kind,
                "wanted": str(edge.wanted),
                "held": str(edge.held) if edge.held else None,
                "queued": edge.queued,
                "waited_ms": round(-edge.since_ms, 3) if edge.since_ms is not None else None,
                "exact": edge.waiter not in sample.inexact,
            }
            for edge in sample.edges
        ],
        "suspects": [asdict(suspect) for suspect in sample.suspects],
        "sessions": [_session(sample.at, session) for session in sample.sessions],
        "timeouts": [asdict(timeout) for timeout in sample.timeouts],
        "idle_open": [session.id for session in sample.idle_open],
        "locks": [
            {
                "session": e.transaction,
                "over": e.resource.text,
                "mode": str(e.mode),
                "granted": e.granted,
            }
            for e in sample.locks
        ],
        "deadlocks": sample.deadlocks,
        "cost": {"ms": sample.cost_ms, "rows": sample.rows_read},
        "notes": list(sample.notes),
        "partial": sample.partial,
        "blind": sample.blind,
    }


def session_value(session: SessionInfo) -> dict[str, Any]:
    """A session by itself."""
    return {**asdict(session), "trace": session.traceparent}


def _session(at: str, session: SessionInfo) -> dict[str, Any]:
    """With the times at which its transaction and its statement began, as far as their ages are
    reported.
    """
    return {
        **session_value(session),
        "transaction_since": _before(at, session.transaction_ms),
        "statement_since": _before(at, session.statement_ms),
    }


def _before(at: str, ms: float | None) -> str | None:
    if ms is None:
        return None
    began = datetime.fromisoformat(at) - timedelta(milliseconds=ms)
    return began.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _branches(branch: Branch) -> list[dict[str, Any]]:
    """The tree without recursion: a chain may be deep. Each entry has its depth."""
    found: list[dict[str, Any]] = []
    stack = [(child, 1) for child in reversed(branch.children)]
    while stack:
        child, depth = stack.pop()
        found.append({"session": child.name, "depth": depth})
        stack += [(c, depth + 1) for c in reversed(child.children)]
    return found
