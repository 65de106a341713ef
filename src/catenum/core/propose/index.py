"""Index: for a statement that locks what it passes, or goes from an index to its rows while others
come the other way.

Derived from the statement and the catalogue, or by a finding. What is proposed is made: it must be
valid, and it must change the plan or lower the number of locks, or it is dropped.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sqlglot import exp

from catenum.core.diagnose.indexes import MOST_NAME, propose_index
from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.record.recording import Recording


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate for each index."""
    found: dict[str, list[str]] = {}
    for ddl, why in _by_plans(evidence):
        found.setdefault(ddl, []).append(why)
    for recording in (evidence.played, *evidence.looped):
        for ddl, why in _by_findings(recording):
            found.setdefault(ddl, []).append(why)
    yield from _for_references(evidence)
    for ddl, reasons in found.items():
        yield (
            Candidate(
                kind="index",
                name=ddl.partition("(")[0].replace("create index ", "index ").strip(),
                because=tuple(dict.fromkeys(reasons))[:3],
                remedy=remedy(index=(ddl,)),
                means=("no statement changes; every write to the table keeps the index as well",),
            ),
        )


def _for_references(evidence: Evidence) -> Iterator[CandidateSeries]:
    """For foreign keys without one, where a statement deletes rows that they refer to, or changes
    their keys.
    """
    for name, transaction in evidence.transactions.items():
        for number in range(1, len(transaction.statements) + 1):
            for access in evidence.footprint(name, number).accesses:
                moves = set(access.columns) & {
                    column.lower() for column in evidence.keys(access.table).columns
                }
                if access.verb == "delete" or (access.verb == "update" and moves):
                    for child, keys in evidence.tables.items():
                        for parent, columns in keys.unindexed:
                            if parent.lower() == access.table.lower():
                                yield (
                                    _for_reference(
                                        evidence, child, columns, f"{name} statement {number}"
                                    ),
                                )


def _for_reference(evidence: Evidence, child: str, columns: Sequence[str], who: str) -> Candidate:
    spelled = [
        exp.to_identifier(one).sql(dialect=evidence.rules.sql.dialect) for one in (child, *columns)
    ]
    title = exp.to_identifier(f"{child}_{'_'.join(columns)}"[:MOST_NAME]).sql(
        dialect=evidence.rules.sql.dialect
    )
    return Candidate(
        kind="index",
        name=f"index {title} on {child}, for its foreign key",
        because=(
            (
                f"{who} makes the server look for rows of {child} that refer to a row: it reads the"
                " whole table"
            ),
        ),
        remedy=remedy(index=(f"create index {title} on {spelled[0]} ({', '.join(spelled[1:])})",)),
        means=("no statement changes; every write to the table keeps the index as well",),
        for_checks=True,
    )


def _by_plans(evidence: Evidence) -> Iterator[tuple[str, str]]:
    wait_pairs = evidence.explored.tally.wait_pairs.values()
    involved = {(m.waiter, m.statement) for m in wait_pairs} | {
        (m.holder, m.holder_statement) for m in wait_pairs
    }
    for plan in evidence.played.plans:
        if (plan.transaction, plan.statement) not in involved:
            continue
        for step in plan.steps:
            if step.kind not in ("scan", "index scan") or not step.locks_rows_passed:
                continue
            sql = evidence.sql(plan.transaction, plan.statement)
            ddl = propose_index(sql, step.table, evidence.rules, evidence.keys(step.table))
            if ddl is not None:
                yield (
                    ddl,
                    (
                        f"{plan.transaction} statement {plan.statement} locks every row of"
                        f" {step.table} that it passes"
                    ),
                )


def _by_findings(recording: Recording) -> Iterator[tuple[str, str]]:
    for finding in recording.findings:
        for line in finding.advice:
            if line.lower().startswith(("create index ", "create unique index ")):
                yield (
                    line.rstrip(";"),
                    (
                        f"{finding.title}: {finding.evidence[0]}"
                        if finding.evidence
                        else finding.title
                    ),
                )
