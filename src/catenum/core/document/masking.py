"""Results without the values of statements and rows, to be shown to others.

Statements lose their literals, rows their values (alike ones get the same mark), locks their keys;
error details and scenarios, which are made of values, are left out. What is left of
a value in some text is found by the values themselves.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from catenum.core.compare.trial import Trial
from catenum.core.diagnose.passes import diagnose
from catenum.core.document.blocks import Document, with_texts
from catenum.core.record.recording import (
    Deadlock,
    DeadlockMember,
    Event,
    Picture,
    Recording,
    Result,
    ServerError,
    TableRows,
    TransactionRecord,
    Wait,
)
from catenum.core.scenario.writing import as_text
from catenum.core.servers import rules_of
from catenum.core.space.exploration import Exploration
from catenum.core.sql.masking import literals, masked, masked_report

#: A value within a key: ``berth(id=7)``, ``Key (id)=(7)``.
_KEY = re.compile(r"(?<==)\s*(?:\([^()]*\)|[^\s,()=]+)")
_QUOTED = re.compile(r"'(?:[^']|'')*'|“[^”]*”")
#: From so many letters on a value is looked for in every text, a number and another: shorter ones
#: are also numbers of statements, counts, words.
_LEAST, _SHORTEST = 3, 2


class Masker:
    """Masks what belongs to one report: the same value has the same mark everywhere."""

    def __init__(self) -> None:
        self._marks: dict[str, str] = {}
        self._tables: set[str] = set()

    # -- values ------------------------------------------------------------------------------------

    def mark(self, value: str | None) -> str | None:
        """What stands for a value: ``v1``, ``v2``; NULL and the empty text stay."""
        if value is None or value == "":
            return value
        return self._marks.setdefault(value, f"v{len(self._marks) + 1}")

    def sql(self, text: str, server: str) -> str:
        """A statement without its literals."""
        rules = rules_of(server).sql
        for piece in literals(text, rules.token_patterns, rules.dialect):
            if piece.kind != "comment":
                self.mark(text[piece.inner_start : piece.inner_end])
        return masked(text, rules.token_patterns)

    def text(self, text: str) -> str:
        """A text without keys, quoted values, and any value that is known."""
        text = _KEY.sub("?", text)
        text = _QUOTED.sub(self._quoted, text)
        if self._tables:
            named = "|".join(map(re.escape, sorted(self._tables)))
            text = re.sub(rf"\b({named}) (\d[\w.-]*)", r"\1 ?", text)  # "berth 3"
        for value in sorted(self._marks, key=len, reverse=True):
            least = _LEAST if value.isdecimal() else _SHORTEST
            if len(value) >= least and value in text:
                text = re.sub(rf"(?<!\w){re.escape(value)}(?!\w)", self._marks[value], text)
        return text

    def _quoted(self, found: re.Match[str]) -> str:
        """A text in quotes that is a value; others are titles."""
        mark = self._marks.get(found[0][1:-1])
        return found[0] if mark is None else f"'{mark}'"

    def document(self, document: Document) -> Document:
        """Every text of it, once all that belongs to it is known."""
        changed: Document = with_texts(document, self.text)
        return changed

    # -- recordings --------------------------------------------------------------------------------

    def recording(self, recording: Recording) -> Recording:
        """Without values. Its findings are derived anew from what is left."""
        server = recording.target.server
        if recording.definition is not None:
            self.sql(as_text(recording.definition), server)
        self._tables |= set(recording.tables)
        for content in recording.rows.values():
            self.rows(content)
        found = replace(
            recording,
            transactions=tuple(self._transaction(one, server) for one in recording.transactions),
            events=tuple(self._event(one, server) for one in recording.events),
            waits=tuple(self._wait(one, server) for one in recording.waits),
            deadlocks=tuple(self._deadlock(one, server) for one in recording.deadlocks),
            pictures=tuple(self._picture(one) for one in recording.pictures),
            rows={name: self.rows(content) for name, content in recording.rows.items()},
            holds_sql={title: self.sql(sql, server) for title, sql in recording.holds_sql.items()},
            definition=None,
            findings=(),
            about=recording.about and self.text(recording.about),
        )
        return replace(found, findings=tuple(diagnose(found)))

    def rows(self, content: TableRows) -> TableRows:
        return replace(content, rows=self._marked(content.rows))

    def _marked(self, rows: Iterable[tuple[str | None, ...]]) -> tuple[tuple[str | None, ...], ...]:
        return tuple(tuple(self.mark(cell) for cell in row) for row in rows)

    def _transaction(self, one: TransactionRecord, server: str) -> TransactionRecord:
        return replace(one, statements=tuple(self.sql(sql, server) for sql in one.statements))

    def _event(self, event: Event, server: str) -> Event:
        return replace(
            event,
            sql=self.sql(event.sql, server),
            result=self._result(event.result),
            error=self._error(event.error),
            values={name: self.mark(value) for name, value in event.values.items()},
            kept={name: self.mark(value) for name, value in event.kept.items()},
            condition=event.condition and self.sql(event.condition, server),
        )

    def _result(self, result: Result | None) -> Result | None:
        return replace(result, rows=self._marked(result.rows)) if result is not None else None

    def _error(self, error: ServerError | None) -> ServerError | None:
        if error is None:
            return None
        message = _QUOTED.sub("'?'", self.text(error.message))
        return replace(error, message=message, detail=None, context=None, hint=None)

    def _wait(self, wait: Wait, server: str) -> Wait:
        taken = self.sql(wait.taken_by, server) if wait.taken_by is not None else None
        return replace(wait, resource=wait.resource.masked(), taken_by=taken)

    def _deadlock(self, deadlock: Deadlock, server: str) -> Deadlock:
        return replace(
            deadlock,
            members=tuple(self._member(one, server) for one in deadlock.members),
            server_report=self._report(deadlock.server_report, server),
        )

    def _report(self, text: str | None, server: str) -> str | None:
        if text is None:
            return None
        return self.text(masked_report(text, rules_of(server).sql.token_patterns))

    def _member(self, one: DeadlockMember, server: str) -> DeadlockMember:
        return replace(
            one,
            resource=one.resource.masked(),
            holds=tuple(self.text(text) for text in one.holds),
            statements=tuple(self.sql(sql, server) for sql in one.statements),
        )

    def _picture(self, picture: Picture) -> Picture:
        return replace(
            picture,
            locks=tuple(replace(lock, resource=lock.resource.masked()) for lock in picture.locks),
            rows={name: self.rows(content) for name, content in picture.rows.items()},
        )

    # -- others ------------------------------------------------------------------------------------

    def exploration(self, found: Exploration) -> Exploration:
        """Statements without literals; keys and evidence are masked with the document's texts."""
        server = found.target.server
        return replace(
            found,
            statements={
                name: tuple(self.sql(sql, server) for sql in texts)
                for name, texts in found.statements.items()
            },
        )

    def trial(self, trial: Trial) -> Trial:
        """Its runs and explorations without values; what remedies change is masked as text."""
        for variant in trial.variants:
            for run in variant.runs:
                self.recording(run)
        return replace(
            trial,
            variants=tuple(
                replace(
                    one,
                    runs=tuple(self.recording(run) for run in one.runs),
                    explored=self.exploration(one.explored) if one.explored is not None else None,
                    changes=tuple(_QUOTED.sub("'?'", text) for text in one.changes),
                )
                for one in trial.variants
            ),
        )

    def value(self, value: Mapping[str, Any], server: str) -> dict[str, Any]:
        """A saved value with the SQL in it masked: its keys ``statements``, ``ddl``, ``sql``."""
        found: dict[str, Any] = {}
        for key, one in value.items():
            if isinstance(one, Recording):
                found[key] = self.recording(one)
            elif isinstance(one, Mapping):
                found[key] = self.value(one, server)
            elif isinstance(one, list):
                found[key] = [
                    self.value(part, server)
                    if isinstance(part, Mapping)
                    else self.sql(part, server)
                    if key in ("statements", "ddl") and isinstance(part, str)
                    else part
                    for part in one
                ]
            else:
                found[key] = self.sql(one, server) if key == "sql" else one
        return found
