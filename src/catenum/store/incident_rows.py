"""Incidents as rows of the store: the incident itself, its heads, which statements met, its worst
moment.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable

from catenum.core.record.recording_file import to_json
from catenum.core.servers import rules_of
from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.sample import Sample
from catenum.core.snapshot.sample_recording import recording_of
from catenum.core.snapshot.taker import head_statement, holder_statement
from catenum.engines.ports.database import Database
from catenum.store.rows import update

#: What a session is counted under where no statement of it can be named.
NOT_TOLD = "(not reported)"
#: The same where no statement that was seen can have taken what is waited for.
UNSEEN = "(a statement that was not seen)"
#: What stands before a statement that was the last one seen, and is not known to have taken
#: anything.
LAST = "(not seen; its last one) "
#: Heads of one incident that are stored.
MOST_STORED = 100


class Entries:
    """Writes incidents, over one connection. Every method raises DatabaseFault where that fails."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._heads: dict[
            int, int
        ] = {}  # how many heads of an incident were known when they were entered

    def enter(self, server: int, incident: Incident) -> None:
        """Enter an incident, or what has become of it. A recording is made of each new worst
        moment.
        """
        if incident.number is None:
            began = {
                "server": server,
                "first_seen": incident.first_seen,
                "last_seen": incident.last_seen,
            }
            nothing = dict.fromkeys(("waiting", "chain", "wait_ms", "longest_ms"), 0)
            incident.number = self._database.insert(
                "incident", {**began, **nothing, "source": incident.source}
            )
        head = incident.longest_held
        session = head.session
        statement, took = head_statement(incident)
        became = {
            "last_seen": incident.last_seen,
            "ended": incident.ended,
            "waiting": incident.worst_waiting,
            "chain": incident.chain,
            "wait_ms": round(incident.wait_ms, 1),
            "longest_ms": round(incident.longest_ms, 1),
            "cycle": int(incident.cycle),
            "head": session.id,
            "user": session.user,
            "application": session.application,
            "host": session.host,
            "database": session.database,
            "statement": statement if took else f"{LAST}{statement}" if statement else None,
            "shape": self._shape(incident.worst, statement if took else None, incident),
            "object": incident.over,
            "heads": incident.head_count,
            "held_ms": round(head.held_ms, 1),
            "held_exact": int(head.exact),
            "typical_ms": incident.typical_ms,
        }
        update(self._database, "incident", incident.number, became)
        if incident.kept_at != incident.worst.at:
            self._worst(incident)
            incident.kept_at = incident.worst.at
        if incident.ended or incident.head_count != self._heads.get(incident.number or 0):
            self._enter_heads(incident)

    def forget(self, numbers: Iterable[int | None]) -> None:
        """What was entered of these incidents is not there: their transaction was rolled back."""
        for number in numbers:
            self._heads.pop(number or 0, None)

    @staticmethod
    def _shape(worst: Sample, statement: str | None, incident: Incident) -> str:
        if statement is not None:
            return rules_of(worst.target.server).sql.shape(statement)
        table = next(
            (
                e.resource.table
                for e in worst.edges
                if e.holder == incident.head.id and e.resource.table
            ),
            None,
        )
        return f"{UNSEEN[:-1]}, on {table})" if table else UNSEEN

    def _enter_heads(self, incident: Incident) -> None:
        """Those that held longest, each with what is known of its hold."""
        number = incident.number or 0
        if incident.ended:
            self._heads.pop(number, None)
        else:
            self._heads[number] = incident.head_count
        self._database.execute("delete from head where incident = ?", (number,))
        longest = sorted(incident.heads.values(), key=lambda head: -head.held_ms)[:MOST_STORED]
        for head in longest:
            session = head.session
            row = {
                "incident": number,
                "session": session.id,
                "user": session.user,
                "application": session.application,
                "host": session.host,
                "statement": session.statement,
                "transaction_name": session.transaction,
                "first_seen": head.first_seen,
                "last_seen": head.last_seen,
                "held_ms": round(head.held_ms, 1),
                "exact": int(head.exact),
                "waiting": head.waiting,
            }
            self._database.insert("head", row)

    def _worst(self, incident: Incident) -> None:
        worst = incident.worst
        title = f"incident over {incident.over}"
        recording = recording_of(worst, incident.statements, title=title)
        self._database.execute(
            "update incident set recording = ? where id = ?",
            (zlib.compress(to_json(recording, indent=None).encode(), 6), incident.number),
        )
        self._database.execute("delete from wait_pair where incident = ?", (incident.number,))
        for edge in worst.edges:
            held_with = holder_statement(worst, edge, incident.statements.get(edge.holder, ()))
            row = {
                "incident": incident.number,
                "waiter": _shape(worst, worst.session(edge.waiter).statement) or NOT_TOLD,
                "holder": _shape(worst, held_with) or UNSEEN,
                "object": edge.resource.text,
                "wait_ms": round(0.0 - (edge.since_ms or 0.0), 1),
            }
            self._database.insert("wait_pair", row)


def _shape(sample: Sample, statement: str | None) -> str | None:
    return rules_of(sample.target.server).sql.shape(statement) if statement else None
