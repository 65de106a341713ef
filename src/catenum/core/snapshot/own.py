"""Catenum's own runs on a server that is watched: what waits there is meant to, and is no
incident.
"""

from __future__ import annotations

import re
from dataclasses import replace

from catenum.core.snapshot.sample import Sample, SessionInfo

#: How the sessions of a run call themselves: by the run's number, after which its scratch space is
#: named too.
_RUN = re.compile(r"catenum ([0-9a-f]{8}) ")


def run_of(session: SessionInfo) -> str | None:
    found = _RUN.match(session.application or "")
    return found[1] if found else None


def without_runs(sample: Sample) -> Sample:
    """The sample without the waits among sessions of one run, and without its open transactions.

    Anybody may call a session so, and hides by that what waits for it among its like; a run's
    session that anybody else waits for, or that waits for anybody else, stays.
    """
    runs = {session.id: run for session in sample.sessions if (run := run_of(session)) is not None}
    if not runs:
        return sample
    edges = tuple(
        edge
        for edge in sample.edges
        if edge.waiter not in runs or runs[edge.waiter] != runs.get(edge.holder)
    )
    met = {name for edge in edges for name in (edge.waiter, edge.holder)}
    sessions = tuple(
        session for session in sample.sessions if session.id not in runs or session.id in met
    )
    return replace(sample, sessions=sessions, edges=edges, by_id={})
