"""What a scenario must not do by accident: touch tables outside its scratch space, or steer transactions by itself."""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.record.recording import TargetInfo
from catenum.core.scenario.model import Scenario, chosen
from catenum.core.servers import Rules, rules_of
from catenum.core.sql.named_locks import NamedLock

Path = tuple[str | int, ...]


def _texts(scenario: Scenario, server: str) -> Iterator[tuple[Path, str, str]]:
    """Every SQL text of a scenario: its path in the file, what to call it, the text."""
    scenario = scenario.for_server(server)
    yield ("data",), "data", scenario.data.script_for(server)
    for name, transaction in scenario.transactions.items():
        for number, entry in enumerate(transaction.statements):
            yield ("transactions", name, "statements", number), f"{name} {number + 1}", entry.text
    for title, sql in scenario.holds.items():
        yield ("holds", title), f"the rule '{title}'", chosen(sql)
    for title, remedy in scenario.remedies.items():
        for name, statements in (remedy.rewrite or {}).items():
            for number, sql in statements.items():
                yield ("remedies", title, "rewrite", name, number), f"remedy '{title}'", chosen(sql)
        for kind in ("index", "ddl"):
            for sql in getattr(remedy, kind) or ():
                yield ("remedies", title, kind), f"remedy '{title}'", chosen(sql)


def beyond_scratch(scenario: Scenario, server: str) -> Iterator[tuple[Path, str]]:
    """What reaches beyond the run's scratch space, by a name with a schema or by what it does: path, and in words."""
    rules = rules_of(server)
    for path, what, sql in _texts(scenario, server):
        for access in (access for found in rules.footprints(rules.uncovered(sql)) for access in found.accesses):
            if access.schema and access.schema.lower() not in rules.catalogues:
                yield path, f"{what} names {access.schema}.{access.table}, outside the run's scratch space"
        for words in rules.reaches_beyond(sql):
            yield path, f"{what} reaches beyond the run's scratch space: {words}"


def warnings(scenario: Scenario, target: TargetInfo) -> Iterator[str]:
    """What a reader should know of how these statements behave on this server."""
    yield from _shared_locks(scenario, target)
    rules = rules_of(target.server)
    for path, what, sql in _texts(scenario, target.server):
        if path[0] == "transactions" and path[3] != 0 and rules.commits_by_itself(sql):
            yield f"{what} commits by itself what its transaction did before: on {rules.title} such a statement does"


def named_locks_of(scenario: Scenario, server: str) -> list[NamedLock]:
    """The named locks that the transactions use, as they are or as a remedy writes them."""
    texts = [sql for path, _, sql in _texts(scenario, server) if path[0] == "transactions" or "rewrite" in path]
    return [lock for sql in texts for lock in rules_of(server).footprint(sql).named_locks]


def _shared_locks(scenario: Scenario, target: TargetInfo) -> Iterator[str]:
    """Named locks, where others are on the server too: no scratch space keeps those apart."""
    found = [lock for lock in named_locks_of(scenario, target.server) if lock.takes]
    if any(lock.function == "get_lock" for lock in found):
        yield "get_lock continues without the lock when its timeout is over; this timeout is not waited for here"
    if found and not target.private:
        resources = [lock.resource for lock in found]
        names = sorted({r.text if r else "names that are computed" for r in resources})
        whole = rules_of(target.server).named_locks_span
        yield f"named locks are the whole {whole}'s: others who use {', '.join(names)} and this run wait for each other"


def _count_of(sql: str, rules: Rules) -> int:
    """How many statements a text holds; those in the body of a stored or a compound statement are part of it."""
    return 1 if rules.is_compound(sql) else min(rules.footprint(sql).count, len(rules.split(sql)))


def transaction_control(scenario: Scenario, server: str) -> Iterator[tuple[Path, str]]:
    """Statements that a scenario leaves to Catenum, and texts that hold more than one statement."""
    rules = rules_of(server)
    for path, what, sql in _texts(scenario, server):
        if path[0] != "transactions" and not (path[0] == "remedies" and path[2] == "rewrite"):
            continue
        found = rules.footprint(sql)
        unseen = rules.handles_transactions(sql)
        if unseen:
            yield path, f"{what} begins or ends work in a way that Catenum does not see: {unseen}; leave it out"
        elif found.control:
            yield (
                path,
                f"{what} is {found.control}: a transaction begins with its first statement and ends as 'ends' says",
            )
        elif (count := _count_of(sql, rules)) > 1:
            yield (
                path,
                f"{what} holds {count} statements; each move is one: make them entries of their own",
            )
        elif found.count == 0:
            yield path, f"{what} holds no statement, only comments"
