"""Access paths of a scenario's statements, as the server plans them, with what they lock."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from catenum.core.record.recording import NO_KEYS, PathStep, Plan, TableKeys
from catenum.core.record.values import Value, Values, binding_of
from catenum.core.scenario.model import Scenario
from catenum.core.servers import Rules, rules_of
from catenum.core.sql.statements import Footprint
from catenum.engines.ports import Engine
from catenum.lab.run.conductor import Conductor


def plans_of(
    engine: Engine,
    scenario: Scenario,
    tables: Mapping[str, TableKeys],
    kept: Mapping[tuple[str, int], Values] | None = None,
) -> tuple[Plan, ...]:
    """The access path of each statement on the data as it stands, with what it locks. ``tables``:
    those of the engine.

    Statements with values of the run are left out; with ``kept``, which has the values by
    transaction and statement, only those are asked for.
    """
    rules, found = rules_of(engine.info.server), []
    for name, transaction in scenario.transactions.items():
        for number, statement in enumerate(transaction.statements, 1):
            names = rules.sql.value_names(statement.text)
            fixed = all(value in transaction.fixed for value in names)
            values = transaction.fixed if kept is None else kept.get((name, number), {})
            if fixed != (kept is None) or not all(value in values for value in names):
                continue
            touched = rules.sql.footprint(statement.text, values)
            if touched.parsed and not touched.changes_tables and not touched.control:
                path = engine.plan(statement.text, binding_of(values, names))
                steps = tuple(_with_locks(step, touched, rules, tables) for step in path)
                found.append(Plan(transaction=name, statement=number, steps=steps))
    return tuple(found)


def values_of_the_run(conductor: Conductor) -> dict[tuple[str, int], Values]:
    """The values that statements were sent with, the last time where they were sent several
    times.
    """
    sent = [
        event
        for event in conductor.log.events
        if event.what == "sent" and event.statement is not None
    ]
    return {
        (event.transaction, event.statement or 0): {
            name: Value(text) for name, text in event.values.items()
        }
        for event in sent
        if event.values
    }


def _with_locks(
    step: PathStep, touched: Footprint, rules: Rules, tables: Mapping[str, TableKeys]
) -> PathStep:
    """The step with what it locks; nothing for a read that locks nothing."""
    access = next((a for a in touched.on(step.table) if a.verb != "insert"), None)
    if access is None or access.verb in ("read", "schema"):
        return step
    locks = rules.locks.plan_locks(step, access, tables.get(step.table, NO_KEYS))
    return replace(step, locks=locks.words, locks_rows_passed=locks.rows_passed)


def may_change_tables(engine: Engine, scenario: Scenario) -> bool:
    """Whether some statement of a scenario, made for the server, may change what tables there are
    or their keys.
    """
    rules, own = rules_of(engine.info.server), engine.functions()
    footprints = (
        rules.sql.footprint(s.text, t.fixed)
        for t in scenario.transactions.values()
        for s in t.statements
    )
    return any(
        f.changes_tables or f.calls_unknown or bool(own & f.functions) or "*" in own
        for f in footprints
    )
