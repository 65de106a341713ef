"""What a store holds, in words: an incident, a gap, how much was seen."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from catenum.core.text import duration


def seen_text(server: dict[str, Any]) -> str:
    """How long a server was seen, and how long somebody looked and could not see."""
    blind = f", blind for {duration(server['blind_s'] * 1000)}" if server["blind_s"] else ""
    seen, of = duration(server["seen_s"] * 1000), duration(server["of_s"] * 1000)
    return f"{server['server']}: seen for {seen} of {of}, in {server['looks']:,} checks{blind}"


def gap_text(gap: dict[str, Any]) -> str:
    """When a server was not seen, and why: nobody looked, or who looked was blind."""
    how = "blind" if gap["blind"] else "not watched"
    until = _seconds(gap["until"]) if gap["until"] else "the end"
    return f"{how} from {_seconds(gap['since'])} to {until}: {gap['why']}"


def incident_line(row: Mapping[str, Any]) -> str:
    """One incident: when, where, who held whom up, over what, for how long."""
    who = ", ".join(part for part in (row["user"], row["application"]) if part)
    session = f"session {row['head'] or 'not reported'}{f' ({who})' if who else ''}"
    blamed = (
        session
        if row["heads"] < 2
        else f"{row['heads']} heads one after the other, {session} the longest"
    )
    most = "" if row["held_exact"] else "at most "
    held = f" for {most}{duration(row['held_ms'])}" if row["held_ms"] is not None else ""
    typical = f", median {duration(row['typical_ms'])}" if row["typical_ms"] is not None else ""
    chain = f", chain {row['chain']}" if row["chain"] > 1 else ""
    return (
        f"{row['first'][:19].replace('T', ' ')}  {row['server']} "
        f" {'cycle, ' if row['cycle'] else ''}over "
        f"{row['object']}: {row['waiting']} waiting{chain}, longest wait"
        f" {duration(row['longest_ms'])}; "
        f"{blamed}{held}{typical}{'' if row['ended'] else ' (not ended when last seen)'}"
        f"{', from the log' if row['source'] == 'log' else ''}"
    )


def _seconds(text: str) -> str:
    return text[:19].rstrip("Z").replace("T", " ")
