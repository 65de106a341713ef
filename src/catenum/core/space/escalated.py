"""Locks on rows that became one on their table, by the waits of an exploration."""

from __future__ import annotations

from collections.abc import Iterable

from catenum.core.scenario.model import Scenario
from catenum.core.servers import Rules
from catenum.core.space.tally import WaitPairEntry


def escalated(
    pairs: Iterable[WaitPairEntry], scenario: Scenario, rules: Rules
) -> set[tuple[str, str]]:
    """Holders with the tables, in lower case, for whose whole somebody waited though no statement
    asks for it. ``scenario``: made for the server.
    """
    found = set()
    for pair in pairs if rules.locks.escalates else ():
        table, transaction = pair.resource.lower(), scenario.transactions.get(pair.holder)
        if transaction is None:
            continue  # a session outside the run, or one that the server does not name
        accesses = [
            access
            for one in transaction.statements
            for access in rules.sql.footprint(one.text, transaction.fixed).on(table)
        ]
        if accesses and not any(one.verb == "schema" or one.lock_mode for one in accesses):
            found.add((pair.holder, table))
    return found
