"""Schema change: a statement that needs a table's strictest lock waits, or makes others wait,
behind plain readers.

Evidence: a wait over a table in which one side is a mode that conflicts even with plain reads,
wanted or held by a statement that changes the table's definition.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Finding, Recording, Wait
from catenum.core.servers import Rules, rules_of
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each transaction whose schema change stands in a wait."""
    rules = rules_of(recording.target.server)
    found: dict[tuple[str, int], list[Wait]] = {}
    for wait in recording.waits:
        for name, number, mode in (
            (wait.waiter, wait.statement, wait.wanted),
            (wait.holder, wait.holder_statement, wait.held),
        ):
            sql = recording.sql(name, number)
            if (
                number is not None
                and wait.resource.kind == "table"
                and mode in rules.locks.schema_modes
                and _changes_schema(sql, rules)
            ):
                found.setdefault((name, number), []).append(wait)
    return [_finding(name, number, waits) for (name, number), waits in found.items()]


def _changes_schema(sql: str | None, rules: Rules) -> bool:
    return any(access.verb == "schema" for access in rules.sql.footprint(sql or "").accesses)


def _finding(name: str, number: int, waits: list[Wait]) -> Finding:
    waited = [wait for wait in waits if wait.waiter == name]
    behind = [wait for wait in waits if wait.holder == name]
    evidence = []
    for wait in waited:
        since = f", since {wait.holder} {wait.holder_numbers}" if wait.holder_numbers else ""
        evidence.append(
            f"{named(name, number)} wanted {wait.wanted} on {wait.resource.text} and waited for"
            f" {wait.holder}, which held {wait.held or 'a lock'}{since}"
        )
    for wait in behind:
        what = (
            f"{named(wait.waiter, wait.statement)} wanted {wait.wanted} on {wait.resource.text} and"
        )
        if wait.queued:
            evidence.append(
                f"{what} queued behind {named(name, number)}, which was itself only waiting"
            )
        else:
            evidence.append(
                f"{what} waited for {named(name, number)}, which by then held {wait.held}"
            )
    others = sorted({wait.waiter for wait in behind} | {wait.holder for wait in waited})
    return Finding(
        id="schema-change",
        title="Schema change in the way",
        transactions=(name, *others),
        statements=ref(name, number)
        + tuple(r for wait in behind for r in ref(wait.waiter, wait.statement)),
        evidence=tuple(evidence),
        advice=_advice(name, waited, behind),
    )


def _advice(name: str, waited: list[Wait], behind: list[Wait]) -> tuple[str, ...]:
    tables = listed(sorted({wait.resource.text for wait in waited or behind}))
    here = f" ({listed(sorted({wait.waiter for wait in behind}))} here)" if behind else ""
    quiet = (
        "Run it when no long transaction has touched the table; keep it in a transaction of its"
        " own."
    )
    if not waited:
        return (
            (
                f"Commit {name} right after the change: until it ends, every statement that needs"
                f" {tables} waits, even plain readers{here}."
            ),
            quiet,
        )
    return (
        (
            f"Give {name} a short lock timeout and try again later: while it waits for {tables}, "
            f"every statement that comes after it waits too, even plain readers{here}."
        ),
        quiet,
        f"To try it: a remedy with timeout: {{{name}: 100ms}}.",
    )
