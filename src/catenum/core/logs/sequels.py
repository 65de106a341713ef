"""What the members of a conflict ran after it, up to the end of their transactions: it is part of
what happened.

A loop over four rows that meets another in its third is a loop over four rows, whatever the report
shows.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from catenum.core.logs.conflicts import BEGINS, ENDS, Conflict, Ending, Member, same_statement
from catenum.core.servers import Rules

_BEGINS, _ENDS = re.compile(BEGINS), re.compile(ENDS)
_COMMITS = re.compile(r"(?is)\s*(?:commit|end)\b")
#: Statements of one transaction that are taken in, and members that are followed at a time.
MOST_STATEMENTS, MOST_FOLLOWED = 500, 2_000

Key = tuple[str, str | None, str]


@dataclass(slots=True)
class _Following:
    conflict: Key
    session: str
    waiting: str
    transaction: str | None
    statements: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Sequel:
    """What a member ran after the conflict. ``ending``: how its transaction ended, where the log
    has that.
    """

    statements: tuple[str, ...]
    ending: Ending | None


def key_of(conflict: Conflict) -> Key:
    """What makes it the same conflict."""
    return (conflict.kind, conflict.at, conflict.report)


@dataclass
class Sequels:
    """Follows the members of conflicts through the rest of a log."""

    rules: Rules
    _following: dict[str, list[_Following]] = field(default_factory=dict)
    _found: dict[tuple[Key, str], Sequel] = field(default_factory=dict)

    def __contains__(self, session: str) -> bool:
        return session in self._following

    def follow(
        self, conflict: Conflict, transactions: Mapping[str, str | None] | None = None
    ) -> None:
        """Those of its members that go on. ``transactions``: their numbers, where the log has them;
        without, only those are followed whose transaction was seen to begin: of others it is not
        known where it ends.
        """
        for member in conflict.members:
            number = (transactions or {}).get(member.session)
            if number is None and not member.whole:
                continue
            known = self._following.get(member.session, [])
            if (
                member.session == conflict.victim
                or member.statement is None
                or len(known) > MOST_FOLLOWED
            ):
                continue
            one = _Following(key_of(conflict), member.session, member.statement, number)
            self._following.setdefault(member.session, []).append(one)

    def ran(
        self, session: str, text: str, transaction: str | None = None, *, ended: bool = False
    ) -> None:
        """A session that is followed runs a text. ``ended``: it has run, so that it may be the one
        that waited.
        """
        for one in self._following.get(session, []):
            if transaction is not None and one.transaction not in (None, transaction):
                self._over(one, None)
                continue
            one.transaction = transaction or one.transaction
            pieces = (
                [text]
                if ";" not in text.rstrip("; \n")
                else [piece for _, piece in self.rules.sql.split(text)]
            )
            for piece in (piece.strip().rstrip(";") for piece in pieces):
                if _BEGINS.match(piece):  # so the one that is followed has ended
                    self._over(one, None)
                    break
                if _ENDS.match(piece):
                    self._over(one, "commit" if _COMMITS.match(piece) else "rollback")
                    break
                if ended and not one.statements and same_statement(piece, one.waiting):
                    one.waiting = ""  # it is in the history
                elif piece and len(one.statements) < MOST_STATEMENTS:
                    one.statements.append(piece)

    def gone(self, session: str, ending: Ending | None = None) -> None:
        """A session has failed, ended, or begun anew."""
        for one in self._following.get(session, []):
            self._over(one, ending)

    def _over(self, one: _Following, ending: Ending | None) -> None:
        self._found[one.conflict, one.session] = Sequel(tuple(one.statements), ending)
        left = [other for other in self._following[one.session] if other is not one]
        if left:
            self._following[one.session] = left
        else:
            del self._following[one.session]

    def added_to(self, conflicts: Sequence[Conflict]) -> list[Conflict]:
        """The conflicts with what came after them; of members that are still followed, as far as
        the log goes.
        """
        for session in list(self._following):
            self.gone(session)

        def member(conflict: Conflict, one: Member) -> Member:
            sequel = self._found.get((key_of(conflict), one.session))
            return (
                replace(one, later=sequel.statements, ending=sequel.ending)
                if sequel is not None
                else one
            )

        return [
            replace(one, members=tuple(member(one, each) for each in one.members))
            for one in conflicts
        ]
