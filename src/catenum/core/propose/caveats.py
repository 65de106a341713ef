"""What must be said of a candidate before anybody makes it: that it fits the values of one case
only, whom it holds up.

Two transactions whose statements are the same but for values are one piece of code (a call site): a
change of one of them alone cannot be made. A lock on a row that everybody else only reads makes a
queue of them all.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import combinations

from catenum.core.diagnose.indexes import propose_index
from catenum.core.propose.candidate import Candidate, Evidence
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Scenario, Statement
from catenum.core.scenario.remedies import apply_remedy
from catenum.core.text import counted

#: Statements behind a lock that it is named for spanning.
MANY = 2
#: Plans that go through all of a table.
_ALL = ("scan", "index scan")


def with_caveats(evidence: Evidence, candidate: Candidate) -> Candidate:
    changed, _ = apply_remedy(evidence.scenario, candidate.remedy)
    harms = tuple(dict.fromkeys(_queues(evidence, changed, candidate)))
    return replace(
        candidate,
        these_values=(*candidate.these_values, *_one_of_a_call_site(evidence, changed, candidate)),
        harms=harms,
        means=(
            *candidate.means,
            *_spans(evidence, changed, candidate),
            *_others(evidence, changed, candidate),
        ),
    )


def at_real_size(evidence: Evidence, candidate: Candidate, played: Recording) -> Candidate:
    """With what the new locks take where the tables are large: by the plans that the server makes
    for them.
    """
    changed, _ = apply_remedy(evidence.scenario, candidate.remedy)
    plans = {(plan.transaction, plan.statement): plan.steps for plan in played.plans}
    whole = [
        f"{name} statement {number} locks every row of {step.table} that it passes: all of it,"
        " however large it is"
        for name, number, table in _new_locks(evidence, changed, candidate)
        for step in plans.get((name, number), ())
        if step.table.lower() == table
        and step.kind in _ALL
        and step.locks_rows_passed
        and _reads_all(evidence, changed.transactions[name].statements[number - 1].text, step.table)
    ]
    ranges = [
        f"{name} statement {number} locks the rows of a range of {step.table}: as many as match"
        for name, number, table in _new_locks(evidence, changed, candidate)
        for step in plans.get((name, number), ())
        if step.table.lower() == table and step.kind == "range"
    ]
    return replace(
        candidate,
        harms=tuple(dict.fromkeys((*candidate.harms, *whole))),
        means=tuple(dict.fromkeys((*candidate.means, *ranges))),
    )


def _reads_all(evidence: Evidence, sql: str, table: str) -> bool:
    """Whether no index would do, however large the table is: a small one is read whole anyway."""
    reading = evidence.reading(sql)
    wanted = propose_index(sql, table, evidence.rules, evidence.keys(table))
    return reading.where is None or wanted is not None


def _others(evidence: Evidence, changed: Scenario, candidate: Candidate) -> Iterator[str]:
    """Who else comes to rows of a table on which there are new locks."""
    locks = list(_new_locks(evidence, changed, candidate))
    for name, transaction in evidence.transactions.items():
        if name in {one for one, _, _ in locks}:
            continue
        for table in dict.fromkeys(table for _, _, table in locks):
            for number, statement in enumerate(transaction.statements, 1):
                if (table, "read") not in _accesses(evidence, statement) and any(
                    access[0] == table for access in _accesses(evidence, statement)
                ):
                    yield f"{name} statement {number} may wait for the lock on {table} as well"
                    break


def _shapes(evidence: Evidence, scenario: Scenario, name: str) -> tuple[object, ...]:
    one = scenario.transactions[name]
    said = [(s.when, s.require, s.otherwise, tuple(s.kept)) for s in one.statements]
    texts = [evidence.rules.sql.shape(s.text) for s in one.statements]
    retry = one.retry.model_dump_json() if one.retry is not None else None
    return (tuple(texts), tuple(said), one.isolation, one.timeout, retry, one.ends)


def _one_of_a_call_site(
    evidence: Evidence, changed: Scenario, candidate: Candidate
) -> Iterator[str]:
    order = candidate.remedy.reorder or {}
    for one, other in combinations(evidence.transactions, 2):
        if _shapes(evidence, evidence.scenario, one) != _shapes(evidence, evidence.scenario, other):
            continue
        if order.get(one) != order.get(other) or _shapes(evidence, changed, one) != _shapes(
            evidence, changed, other
        ):
            yield (
                f"{one} and {other} are the same code with other values, and this change makes them"
                " differ: it fits the values of this case only"
            )


def _new_locks(
    evidence: Evidence, changed: Scenario, candidate: Candidate
) -> Iterator[tuple[str, int, str]]:
    """Locking reads that the candidate brings: the transaction, the statement's number as changed,
    the table.
    """
    touched = {*(candidate.remedy.add or {}), *(candidate.remedy.rewrite or {})}
    for name in evidence.transactions:
        if name not in touched:
            continue
        before = {statement.text for statement in evidence.transactions[name].statements}
        for number, statement in enumerate(changed.transactions[name].statements, 1):
            if statement.text in before:
                continue
            for access in _accesses(evidence, statement):
                if access[1] == "lock":
                    yield name, number, access[0]


def _accesses(evidence: Evidence, statement: Statement) -> list[tuple[str, str]]:
    return [
        (a.table.lower(), a.verb) for a in evidence.rules.sql.footprint(statement.text).accesses
    ]


def _queues(evidence: Evidence, changed: Scenario, candidate: Candidate) -> Iterator[str]:
    written: Mapping[str, bool] = {
        table: True
        for one in evidence.transactions.values()
        for statement in one.statements
        for table, verb in _accesses(evidence, statement)
        if verb != "read"
    }
    for _, _, table in _new_locks(evidence, changed, candidate):
        if table not in written:
            yield (
                f"rows of {table} are otherwise only read: with this lock every transaction"
                " that needs one waits for all others"
            )


def _spans(evidence: Evidence, changed: Scenario, candidate: Candidate) -> Iterator[str]:
    reported = set()
    yield from _thinks(evidence, changed, candidate)
    for name, number, table in _new_locks(evidence, changed, candidate):
        behind = len(changed.transactions[name].statements) - number
        if behind >= MANY and (name, table) not in reported:
            reported.add((name, table))
            yield (
                f"{name} holds the lock on {table} over {counted(behind, 'more statement')}, until"
                " it ends"
            )


def _thinks(evidence: Evidence, changed: Scenario, candidate: Candidate) -> Iterator[str]:
    """Where a lock is held while the application is elsewhere."""
    for name, number, table in _new_locks(evidence, changed, candidate):
        behind = changed.transactions[name].statements[number - 1 :]
        elsewhere = sum(one.thinks or 0 for one in behind)
        if elsewhere:
            yield (
                f"{name} holds the lock on {table} while the application is elsewhere for"
                f" {elsewhere} ms"
            )
