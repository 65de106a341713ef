"""A captured conflict as a scenario: members become transactions, what only waited comes last.

What the log does not have is made up and labelled: an earlier statement is a stand-in that takes
the lock its waiter ran into; tables without a definition are inferred from the statements; rows are
those that statements name.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from catenum.core.errors import InputError
from catenum.core.logs.conflicts import CUT, CapturedWait, Conflict, Member
from catenum.core.logs.inference import tables_of_conflict
from catenum.core.logs.rows import Rows, as_written, filler_of, rows_for
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.tables import Schema, TableInfo, closure, script_of
from catenum.core.scenario.writing import as_text
from catenum.core.servers import Rules, rules_of


def with_definitions(conflict: Conflict, schema: Schema) -> Conflict:
    """A conflict with the keys of its records told by the types of their columns."""

    def columns(table: str, index: str) -> list[tuple[str, str]] | None:
        info = schema.tables.get(table.lower())
        return info.entry(index) if info is not None else None

    return log_rules_of(conflict.server).with_types(conflict, columns)


#: Rows of a table by their keys: columns and values as text.
Fetch = Callable[[str, Sequence[Mapping[str, str]]], Iterable[Mapping[str, str]]]
LATER = "after the conflict"
STAND_IN = "a placeholder: the log does not have this statement"


@dataclass(slots=True)
class Staged:
    """A scenario in the making."""

    name: str
    server: str
    about: str
    data: str
    transactions: dict[str, dict[str, object]]
    order: list[str]
    victim: str | None
    notes: list[str] = field(default_factory=list)
    fill: dict[str, dict[str, object]] = field(default_factory=dict)
    #: What else the scenario says: its rules, the columns that are not compared.
    more: dict[str, object] = field(default_factory=dict)
    #: Filler that would make the server take its indexes; not in the scenario until it turns out to
    #: be needed.
    filler: dict[str, dict[str, object]] = field(default_factory=dict)
    #: How many statements each transaction ran after the conflict; their moves come last.
    later: dict[str, int] = field(default_factory=dict)

    def text(self) -> str:
        """The scenario file."""
        body: dict[str, object] = {"scenario": self.name, "about": self.about, "data": self.data}
        if self.fill:
            body["fill"] = self.fill
        body["transactions"] = self.transactions
        body["order"] = " ".join(self.order)
        if self.victim is not None:
            body["victim"] = self.victim
        body |= self.more
        head = "".join(f"# {line}\n" for note in self.notes for line in _wrapped(note))
        return head + as_text(body)


def _wrapped(text: str) -> list[str]:
    words, lines = text.split(), [""]
    for word in words:
        if lines[-1] and len(lines[-1]) + len(word) > 110:
            lines.append("")
        lines[-1] = f"{lines[-1]} {word}".strip()
    return lines


def restaged(
    conflict: Conflict,
    schema: Schema | None = None,
    *,
    name: str | None = None,
    fetch: Fetch | None = None,
) -> Staged:
    """The scenario. ``schema``: definitions of tables; ``fetch``: gives rows by their keys, as they
    stand now.

    Raises InputError where nothing can be made of the conflict.
    """
    rules = rules_of(conflict.server)
    if (
        schema is None
        and conflict.definition is not None
        and (carried := _carried(conflict, name)) is not None
    ):
        return carried
    if schema is not None:
        conflict = with_definitions(conflict, schema)
    members = [member for member in conflict.members if member.statement]
    if len(members) < 2:
        raise InputError(
            "the log does not have two members with their statements, so there is nothing to play",
            advice="'catenum preflight' says what would make the next capture complete.",
        )
    names = _names(members)
    members, assumed = _with_assumed_values(members, rules)
    conflict = replace(conflict, members=tuple(members))
    notes = [
        f"Restaged from {conflict.source or 'a report'}:"
        f" {conflict.kind}{f' at {conflict.at}' if conflict.at else ''}."
    ]
    notes += [f"ASSUMED: the log has no values for {what}; they are made up." for what in assumed]
    told = [_told(member, names[member.session], conflict, rules) for member in members]
    texts = {one.label: one.texts for one in told}
    later = {one.label: one.later for one in told}
    notes += [note for one in told for note in one.notes]
    data, more, filler = _data(conflict, texts, schema, rules, fetch)
    deadlock = conflict.kind == "deadlock"
    victim = names.get(conflict.victim or "") if deadlock else None
    if deadlock:
        order = _order(texts, later, victim)
    else:
        waited = {names[wait.waiter] for wait in conflict.waits if wait.waiter in names}
        order = _one_after_the_other(texts, waited)
    when = f" at {conflict.at}" if conflict.at else ""
    return Staged(
        name=name or f"captured-{conflict.kind}",
        server=conflict.server,
        about=f"A {conflict.kind} that {rules.title} logged{when}.",
        data=data,
        transactions={one.label: one.entry for one in told},
        order=order,
        victim=victim if rules.locks.asks_victim else None,
        notes=[*notes, *more, *conflict.notes],
        filler=filler,
        later=later,
    )


@dataclass(frozen=True)
class _Told:
    """What a member becomes: its entry in the file, its statements' texts, how many of them come
    after the conflict, and what is not known of it.
    """

    label: str
    entry: dict[str, object]
    texts: list[str]
    later: int
    notes: list[str]


def _told(member: Member, label: str, conflict: Conflict, rules: Rules) -> _Told:
    history, made_up = _statements(member, conflict, rules)
    notes = list(_gaps(member, history, made_up=made_up))
    history += [(sql, LATER) for sql in member.later]
    entry: dict[str, object] = {"isolation": member.isolation} if member.isolation else {}
    entry["statements"] = [_entry(sql, why) for sql, why in history]
    if member.ending == "rollback":
        entry["ends"] = "rollback"
    notes += _after(member, conflict)
    return _Told(
        label=label,
        entry=entry,
        texts=[sql for sql, _ in history],
        later=len(member.later),
        notes=[f"{label}: {note}" for note in notes],
    )


def _gaps(
    member: Member, history: Sequence[tuple[str, str | None]], *, made_up: bool
) -> Iterator[str]:
    """What is not known of what came before the conflict."""
    if not history:
        yield "what it had run before is not in the log, and nothing tells what it held."
    if any(CUT in sql for sql, _ in history):
        yield "a statement was cut by the server; complete it."
    if made_up:
        yield (
            "its earlier statement is not in the log; a placeholder takes the lock that was waited"
            " for."
        )
    if member.history is not None and not member.whole:
        yield "whether the log has all that it had run is not known."
    if not member.isolation:
        yield "its isolation level is not in the log; the server's default is taken."


def _entry(sql: str, why: str | None) -> object:
    if why is None:
        return sql
    return {"sql": sql, "label": why, **({"placeholder": True} if why == STAND_IN else {})}


def _after(member: Member, conflict: Conflict) -> Iterator[str]:
    """What is not known of what came after the conflict."""
    if member.session == conflict.victim:
        yield "it was the victim; what it would have run after this is not known."
    elif conflict.kind == "deadlock" and member.ending is None:
        yield "whether it ran anything more before it ended is not in the log."


def _carried(conflict: Conflict, name: str | None) -> Staged | None:
    """The scenario that a recording carries, in the order of its moves; None where others took
    part, as copies in loops do.
    """
    known = dict(conflict.definition or {})
    transactions = known.pop("transactions")
    if not {member.session for member in conflict.members} <= transactions.keys():
        return None
    turns = " ".join(conflict.schedule) or known.get("order") or " ".join([*transactions] * 2)
    victim = (
        conflict.victim
        if conflict.schedule and rules_of(conflict.server).locks.asks_victim
        else None
    )
    for key in ("order", "victim", "differs"):
        known.pop(key, None)
    return Staged(
        name=name or known.pop("scenario"),
        server=conflict.server,
        about=known.pop("about", "") or f"A {conflict.kind} that occurred.",
        data=known.pop("data"),
        transactions=transactions,
        order=turns.split(),
        victim=victim,
        notes=[f"The scenario of {conflict.source}, as it was run."],
        fill=known.pop("fill", {}),
        more={key: value for key, value in known.items() if key not in ("scenario", "about")},
    )


def _with_assumed_values(members: Sequence[Member], rules: Rules) -> tuple[list[Member], list[str]]:
    """Members with numbers in the places of parameters whose values the log does not have, each its
    own.
    """
    found, assumed = [], []
    for number, member in enumerate(members, 1):
        history = [_filled(sql, number, rules) for sql in member.history or ()]
        statement = _filled(member.statement or "", number, rules)
        if (
            member.history
            and member.history[-1] != member.statement
            and "$" in (member.statement or "")
        ):
            statement = history[-1]  # with the values that the statement log has
        elif statement != member.statement:
            assumed.append(
                f"the parameters of {rules.sql.shape(member.statement or '')!r} (session"
                f" {member.session})"
            )
        later = tuple(_filled(sql, number, rules) for sql in member.later)
        found.append(
            replace(member, statement=statement, history=tuple(history) or None, later=later)
        )
    return found, assumed


def _filled(sql: str, number: int, rules: Rules) -> str:
    """A statement with a number in each place for a value; what stands in quotes is none."""
    parts, at = [], 0
    for opaque in rules.sql.token_patterns.opaque.finditer(sql):
        parts += [
            log_rules_of(rules.name).place_of_value.sub(str(number), sql[at : opaque.start()]),
            opaque[0],
        ]
        at = opaque.end()
    return "".join([*parts, log_rules_of(rules.name).place_of_value.sub(str(number), sql[at:])])


def _names(members: Sequence[Member]) -> dict[str, str]:
    """By applications, counted where several members have the same; by sessions where none is
    known.
    """
    plain = [
        re.sub(r"[^\w-]+", "-", member.application or "").strip("-")[:30] for member in members
    ]
    found: dict[str, str] = {}
    for place, (member, name) in enumerate(zip(members, plain, strict=True)):
        number = f"-{plain[: place + 1].count(name)}" if plain.count(name) > 1 else ""
        found[member.session] = f"{name}{number}" if name else f"s{member.session}"
    return found


def _order(
    texts: Mapping[str, Sequence[str]], later: Mapping[str, int], victim: str | None
) -> list[str]:
    """What came first, by member; then what waited, the victim's last: it closed the cycle, or fell
    for it; then what came after the conflict.
    """
    early = [label for label, sqls in texts.items() for _ in sqls[: len(sqls) - later[label] - 1]]
    last = sorted(texts, key=lambda label: label == victim)
    return [*early, *last, *(label for label, count in later.items() for _ in range(count))]


def _one_after_the_other(texts: Mapping[str, Sequence[str]], waiters: Collection[str]) -> list[str]:
    """Who only held, with all it had run; then who waited."""
    labels = sorted(texts, key=lambda label: label in waiters)
    return [label for label in labels for _ in texts[label]]


def _statements(
    member: Member, conflict: Conflict, rules: Rules
) -> tuple[list[tuple[str, str | None]], bool]:
    """A member's statements, each with a label where it is made up, and whether one is."""
    last = str(member.statement)
    history = [sql for sql in member.history or (last,) if sql.strip()]
    if (
        len(history) > 1
        or (member.history is not None and member.whole)
        or conflict.kind != "deadlock"
    ):
        return [
            (sql, None) for sql in history
        ], False  # nothing else ran before, whatever it was that took the lock
    stand_ins = [
        stand_in
        for wait in conflict.waits
        if wait.holder == member.session
        and not wait.queued
        and (stand_in := _stand_in(wait, conflict, rules, shared=_shared(wait, conflict, rules)))
        is not None
    ]
    found = list(dict.fromkeys(stand_ins))
    return [*((sql, STAND_IN) for sql in found), (history[-1], None)], bool(found)


def _stand_in(wait: CapturedWait, conflict: Conflict, rules: Rules, *, shared: bool) -> str | None:
    waiter = conflict.member(wait.waiter)
    return (
        log_rules_of(rules.name).stand_in(wait, waiter.statement or "", shared=shared)
        if waiter is not None
        else None
    )


def _shared(wait: CapturedWait, conflict: Conflict, rules: Rules) -> bool:
    """Whether several members hold what is waited for: then none of them has it for itself."""
    alike = {
        other.holder
        for other in conflict.waits
        if other.object == wait.object and other.table == wait.table
    }
    if len(alike) > 1 and wait.provenance.get("object") != "assumed":
        return True
    # which row it is may not be known; but where the same statement would stand for two, both hold
    # the same
    own = _stand_in(wait, conflict, rules, shared=False)
    return own is not None and any(
        own == _stand_in(other, conflict, rules, shared=False)
        for other in conflict.waits
        if other.holder != wait.holder and other.waiter != wait.waiter
    )


# -- tables and rows -------------------------------------------------------------------------------


def _data(
    conflict: Conflict,
    texts: Mapping[str, Sequence[str]],
    schema: Schema | None,
    rules: Rules,
    fetch: Fetch | None = None,
) -> tuple[str, list[str], dict[str, dict[str, object]]]:
    statements = [sql for sqls in texts.values() for sql in sqls]
    named = list(
        dict.fromkeys(table for sql in statements for table, _ in rules.sql.tables_of(sql))
    )
    missing = [table for table in named if schema is None or table.lower() not in schema.tables]
    made, references = (
        tables_of_conflict(conflict, texts, rules, missing) if missing else (Schema(), [])
    )
    script, infos = script_of(made, list(made.tables)), made.tables
    if schema is None:
        notes = [f"ASSUMED: {one}, which would explain the lock." for one in references]
        if infos:
            notes.append(
                "ASSUMED: the tables are inferred from the statements alone"
                f" ({', '.join(info.name for info in infos.values())}). --schema FILE is better."
            )
    else:
        notes = list(_of_schema(schema, missing))
        tables = closure(schema, [*named, *conflict.relations])
        script = "\n".join(filter(None, (script_of(schema, tables, statements, rules), script)))
        infos = {name: one for name, one in schema.tables.items() if name in tables} | infos
    rows = rows_for(infos, list(texts.values()), rules, _records(conflict, infos))
    if fetch is not None:
        live = _fetched(rows, infos, fetch)
        rows = rows_for(infos, list(texts.values()), rules, live)
        live = _fetched(rows, infos, fetch)  # what those rows refer to, too
        rows = rows_for(infos, list(texts.values()), rules, live)
        count = sum(map(len, live.values()))
        notes.append(
            f"{count} row{'' if count == 1 else 's'} are as they stand on the server now, after the"
            " conflict."
        )
    if rows.tables:
        notes.append("The rows are those that the statements name; other values are made up.")
    data = "\n".join(filter(None, (script, rows.script(infos, rules)))) or "select 1;"
    relations = {table.lower() for table in (*named, *conflict.relations)}
    fillers = {
        info.name: fill
        for name, info in infos.items()
        if name in relations and (fill := filler_of(info, rows))
    }
    return data, notes, fillers


def _of_schema(schema: Schema, missing: Sequence[str]) -> Iterator[str]:
    if missing:
        yield f"Not in the schema file, so made up from the statements: {', '.join(missing)}."
    if schema.dropped:
        reported = ", ".join(f"{what} ({count})" for what, count in sorted(schema.dropped.items()))
        yield f"Dropped from the definitions: {reported}."


def _fetched(
    rows: Rows, infos: Mapping[str, TableInfo], fetch: Fetch
) -> dict[str, list[dict[str, str]]]:
    """The rows of these keys as they stand on a server."""
    found: dict[str, list[dict[str, str]]] = {}
    for table, known in rows.tables.items():
        info = infos[table]
        if not info.primary:
            continue
        keys = [
            {name: _plain(row[name]) for name in info.primary}
            for row in known
            if set(info.primary) <= row.keys()
        ]
        for row in fetch(info.name, keys):
            columns = {name: info.columns[name] for name in row if name in info.columns}
            found.setdefault(table, []).append(
                {n: as_written(column, row[n]) for n, column in columns.items()}
            )
    return found


def _plain(written: str) -> str:
    return written[1:-1].replace("''", "'") if written.startswith("'") else written


def _records(conflict: Conflict, infos: Mapping[str, TableInfo]) -> dict[str, list[dict[str, str]]]:
    """Rows that InnoDB's report shows: as they were before the deadlock, where the types of the
    columns are known.
    """
    found: dict[str, list[dict[str, str]]] = {}
    for wait in conflict.waits:
        info = infos.get((wait.table or "").lower())
        if info is None or not info.primary:
            continue
        values = dict(wait.row)
        if not values and wait.index == "PRIMARY" and wait.record:
            named = zip(
                info.primary, wait.record[: wait.key_fields or len(wait.record)], strict=False
            )
            values = {name: value for name, value in named if value is not None}
        if set(info.primary) <= values.keys():
            row = {
                name: as_written(info.columns[name], value)
                for name, value in values.items()
                if name in info.columns
            }
            found.setdefault(info.name.lower(), []).append(row)
    return found
