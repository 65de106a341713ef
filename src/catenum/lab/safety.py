"""What a scenario must not do by accident: touch tables outside its scratch space, or steer transactions by itself."""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.recording import TargetInfo
from catenum.core.scenario import Scenario, chosen
from catenum.core.statements import footprint, footprints

Path = tuple[str | int, ...]

#: Schemas that hold the server's own catalogues, which anybody may read.
CATALOGUES = {
    "postgresql": ("pg_catalog", "information_schema"),
    "mariadb": ("information_schema", "performance_schema"),
}


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


def outside_names(scenario: Scenario, server: str) -> Iterator[tuple[Path, str, str]]:
    """Tables named with a schema of their own: path, which statement, and the name."""
    for path, what, sql in _texts(scenario, server):
        for access in (access for found in footprints(sql, server) for access in found.accesses):
            if access.schema and access.schema.lower() not in CATALOGUES[server]:
                yield path, what, f"{access.schema}.{access.table}"


def shared_locks(scenario: Scenario, target: TargetInfo) -> Iterator[str]:
    """A note on named locks, where others are on the server too: no scratch space keeps those apart."""
    texts = [sql for path, _, sql in _texts(scenario, target.server) if path[0] == "transactions"]
    found = [lock for sql in texts for lock in footprint(sql, target.server).named_locks if lock.takes]
    if found and not target.private:
        names = sorted({lock.text or "names that are computed" for lock in found})
        whole = "database" if target.server == "postgresql" else "server"
        yield f"named locks are the whole {whole}'s: others who use {', '.join(names)} and this run wait for each other"


def transaction_control(scenario: Scenario, server: str) -> Iterator[tuple[Path, str]]:
    """Statements that a scenario leaves to Catenum, and texts that hold more than one statement."""
    for path, what, sql in _texts(scenario, server):
        if path[0] != "transactions" and not (path[0] == "remedies" and path[2] == "rewrite"):
            continue
        found = footprint(sql, server)
        if found.control:
            yield (
                path,
                f"{what} is {found.control}: a transaction begins with its first statement and ends as 'ends' says",
            )
        elif found.count > 1:
            yield (
                path,
                f"{what} holds {found.count} statements; each move is one: make them entries of their own",
            )
        elif found.count == 0:
            yield path, f"{what} holds no statement, only comments"
