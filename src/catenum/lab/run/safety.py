"""What a scenario must not do by accident: touch tables outside its scratch space, or steer
transactions by itself.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from catenum.core.record.recording import TargetInfo
from catenum.core.scenario.model import Scenario, chosen
from catenum.core.servers import Rules, rules_of
from catenum.core.sql.beginning import begins
from catenum.core.sql.named_locks import NamedLock
from catenum.core.sql.scripts import Piece
from catenum.core.text import listed

Path = tuple[str | int, ...]


#: Parts of a remedy that are statements of transactions.
CHANGES = ("rewrite", "add")


def _texts(scenario: Scenario, server: str) -> Iterator[tuple[Path, str, str]]:
    """Every SQL text of a scenario: its path in the file, what to call it, the text."""
    scenario = scenario.for_server(server)
    yield ("data",), "data", scenario.data.script_for(server)
    for name, transaction in scenario.transactions.items():
        for number, text in enumerate(transaction.before):
            yield ("transactions", name, "session", number), f"the session of {name}", text
        for number, entry in enumerate(transaction.statements):
            if entry.kill is not None:
                continue  # it reaches a session of the run only
            yield ("transactions", name, "statements", number), f"{name} {number + 1}", entry.text
    for title, sql in scenario.holds.items():
        yield ("holds", title), f"the rule '{title}'", chosen(sql)
    for title, remedy in scenario.remedies.items():
        for kind in CHANGES:
            for name, statements in (getattr(remedy, kind) or {}).items():
                for number, one in statements.items():
                    yield ("remedies", title, kind, name, number), f"remedy '{title}'", one.text
        for kind in ("index", "ddl"):
            for sql in getattr(remedy, kind) or ():
                yield ("remedies", title, kind), f"remedy '{title}'", chosen(sql)


@dataclass(frozen=True)
class Unsafe:
    """Something that a scenario must not do: where it stands, and in words.

    ``beyond``: it reaches out of the run's scratch space, which a user may allow; all else is never
    run.
    """

    path: Path
    words: str
    beyond: bool = False


def unsafe_statements(scenario: Scenario, server: str) -> Iterator[Unsafe]:
    """What ends its transaction by itself, holds more than one statement, or reaches beyond the
    scratch space.
    """
    rules = rules_of(server)
    for path, what, sql in _texts(scenario, server):
        pieces = rules.sql.pieces(sql)
        if path[0] == "transactions" or (path[0] == "remedies" and path[2] in CHANGES):
            words = _not_one_move(sql, pieces, rules)
            first = path[0] == "transactions" and path[2:] == ("statements", 0)
            if first and begins(sql) and len(pieces) == 1:
                words = None
            if words:
                yield Unsafe(path, f"{what} {words}")
        if prepares := rules.sql.prepares(sql):
            yield Unsafe(
                path,
                f"{what} prepares a transaction that outlives its session: {prepares}; leave"
                " it out",
            )
        for piece in pieces:
            for words in _beyond_scratch(piece, rules):
                yield Unsafe(path, f"{what} {words}", beyond=True)


def uncontained_statements(scenario: Scenario, server: str) -> Iterator[Unsafe]:
    """What may reach out of the scratch space for all that is known: to be refused where the server
    keeps no wall.
    """
    rules = rules_of(server)
    for path, what, sql in _texts(scenario, server):
        for piece in rules.sql.pieces(sql):
            why = rules.sql.uncontained(piece)
            if why:
                yield Unsafe(
                    path,
                    f"{what} is not certain to stay within the run's scratch space: {why}",
                    beyond=True,
                )


def _beyond_scratch(piece: Piece, rules: Rules) -> Iterator[str]:
    """By a name with a schema, or by what it does."""
    for access in rules.sql.footprint(piece.shape).accesses:
        if access.schema and access.schema.lower() not in rules.sql.catalogues:
            yield f"names {access.schema}.{access.table}, outside the run's scratch space"
    words = rules.sql.reaches_beyond(piece)
    if words:
        yield f"reaches beyond the run's scratch space: {words}"


def _not_one_move(sql: str, pieces: Sequence[Piece], rules: Rules) -> str | None:
    """Why a text is no statement that one move could be."""
    if not pieces:
        return "holds no statement, only comments"
    first = pieces[0].shape
    unseen, control = rules.sql.handles_transactions(first), rules.sql.footprint(first).control
    if unseen:
        return f"begins or ends work in a way that Catenum does not see: {unseen}; leave it out"
    if control:
        return (
            f"is {control}: a transaction begins with its first statement, which may be 'begin',"
            " and ends as 'ends' says"
        )
    count = _count_of(sql, pieces, rules)
    return (
        f"holds {count} statements; each move is one: make them entries of their own"
        if count > 1
        else None
    )


def placeholders(scenario: Scenario) -> list[str]:
    """The statements that stand for others that nobody knows, as they are called."""
    return [
        f"{name} {number}"
        for name, transaction in scenario.transactions.items()
        for number, entry in enumerate(transaction.statements, 1)
        if entry.placeholder
    ]


def warnings(scenario: Scenario, target: TargetInfo) -> Iterator[str]:
    """What a reader should know of how these statements behave on this server."""
    if found := placeholders(scenario):
        yield (
            f"{listed(found)}: a placeholder, not a statement of the application; what is said here"
            " is said of it"
        )
    yield from _shared_locks(scenario, target)
    rules = rules_of(target.server)
    for path, what, sql in _texts(scenario, target.server):
        if path[0] == "transactions" and path[3] != 0 and rules.sql.commits_by_itself(sql):
            yield (
                f"{what} commits by itself what its transaction did before: on {rules.title} such a"
                " statement does"
            )


def named_locks_of(scenario: Scenario, server: str) -> list[NamedLock]:
    """The named locks that the transactions use, as they are or as a remedy writes them."""
    texts = [
        sql
        for path, _, sql in _texts(scenario, server)
        if path[0] == "transactions" or set(path[2:3]) & set(CHANGES)
    ]
    return [lock for sql in texts for lock in rules_of(server).sql.footprint(sql).named_locks]


def _shared_locks(scenario: Scenario, target: TargetInfo) -> Iterator[str]:
    """Named locks, where others are on the server too: no scratch space keeps those apart."""
    found = [lock for lock in named_locks_of(scenario, target.server) if lock.takes]
    if any(lock.function == "get_lock" for lock in found):
        yield (
            "get_lock continues without the lock when its timeout is over; this timeout is not"
            " waited for here"
        )
    if found and not target.private:
        resources = [lock.resource for lock in found]
        names = sorted({r.text if r else "names that are computed" for r in resources})
        whole = rules_of(target.server).locks.named_locks_span
        yield (
            f"named locks are the whole {whole}'s: others who use {', '.join(names)} and this run"
            " wait for each other"
        )


def _count_of(sql: str, pieces: Sequence[Piece], rules: Rules) -> int:
    """How many statements a text holds; those in the body of a stored or a compound statement are
    part of it.
    """
    if len(pieces) < 2:
        return len(pieces)
    return 1 if rules.sql.is_compound(sql) else min(rules.sql.footprint(sql).count, len(pieces))
