"""The scratch space of one run: a schema that is made, marked, looked into, cleared after a killed
run, and dropped.

A run says that it lives by an advisory lock, which goes with its connection: whose lock can be
taken, that run is dead.
"""

from __future__ import annotations

import json
import os
import socket
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any, LiteralString

import psycopg
from psycopg import pq, sql

from catenum.core.record.recording import TableKeys
from catenum.core.space.equal_values import classes_of
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.calls import ask

MARK = "catenum scratch space"
#: How often the catalogue is read anew, where something was dropped meanwhile.
MOST_TRIES = 8
_LOCK_CLASS = 0x63617465  # the class of the advisory locks by which runs say that they live
_TABLES = r"""
select c.relname, i.indisprimary, i.indisunique, ic.relname, array_agg(a.attname::text
  order by k.place),
       (select array_agg(distinct p.relname::text) from pg_constraint f join pg_class p
         on p.oid = f.confrelid
        where f.conrelid = c.oid and f.contype = 'f'),
       exists (select from pg_trigger t where t.tgrelid = c.oid and not t.tgisinternal)
         or c.relhasrules
       or c.relkind = 'p',
       (select array_agg(m.attname::text order by m.attnum) from pg_attribute m
        left join pg_attrdef d on d.adrelid = m.attrelid and d.adnum = m.attnum
        left join pg_type y on y.oid = m.atttypid
        where m.attrelid = c.oid and m.attnum > 0 and not m.attisdropped and (m.attidentity <> ''
          or regexp_replace(coalesce(pg_get_expr(d.adbin, d.adrelid), y.typdefault), '''[^'']*''',
          '', 'g')
            ~* '\m(nextval|now\(|current_|localtime'
            '|clock_timestamp|statement_timestamp|transaction_timestamp|timeofday|random|gen_random|uuid|txid_current)'))
from pg_class c
join pg_namespace n on n.oid = c.relnamespace
left join pg_index i on i.indrelid = c.oid and i.indpred is null and i.indexprs is null
left join pg_class ic on ic.oid = i.indexrelid
left join lateral unnest(i.indkey::int2[]) with ordinality k(attnum, place)
  on k.place <= i.indnkeyatts
left join pg_attribute a on a.attrelid = c.oid and a.attnum = k.attnum
where n.nspname = %s and c.relkind in ('r', 'p')
group by c.oid, c.relname, c.relkind, c.relhasrules, i.indexrelid, i.indisprimary, i.indisunique,
ic.relname
order by c.relname, ic.relname
"""
#: Foreign keys whose columns no whole index begins with, in whatever order.
_UNINDEXED = """
select c.relname, p.relname, array_agg(a.attname::text order by k.place)
from pg_constraint f
join pg_class c on c.oid = f.conrelid join pg_class p on p.oid = f.confrelid
join lateral unnest(f.conkey) with ordinality k(attnum, place) on true
join pg_attribute a on a.attrelid = f.conrelid and a.attnum = k.attnum
where f.contype = 'f' and c.relnamespace = %s::regnamespace and not exists (
  select from pg_index i where i.indrelid = f.conrelid and i.indpred is null and i.indisvalid
  and (i.indkey::int2[])[0:cardinality(f.conkey) - 1] @> f.conkey)
group by f.oid, c.relname, p.relname order by f.oid
"""
#: First number of objects that are not the server's own (PostgreSQL,
#: "src/include/access/transam.h").
_FIRST_OWN = 16384
#: Tables that do more than a plain one says: members of a family, row-level policies, code of a
#: user's own in defaults, checks, domains and index expressions, and calls of the server's
#: functions that reach out of the row.
_OPAQUE = f"""
with recursive used(relation, oid) as (
  select a.attrelid, a.atttypid from pg_attribute a join pg_class t on t.oid = a.attrelid
    where t.relnamespace = %s::regnamespace and a.attnum > 0 and not a.attisdropped
  union select u.relation, part.oid from used u join pg_type t on t.oid = u.oid cross join lateral (
    select t.typbasetype union select t.typelem
    union select b.atttypid from pg_attribute b where b.attrelid = t.typrelid and t.typrelid <> 0
      and b.attnum > 0
    union select r.rngsubtype from pg_range r where r.rngtypid = t.oid) part(oid)
      where part.oid <> 0)
select c.relname from pg_class c where c.relnamespace = %s::regnamespace and c.relkind in ('r', 'p')
  and (
  c.relkind = 'p' or c.relispartition or c.relhassubclass or c.relrowsecurity
  or exists (select from pg_inherits h where c.oid in (h.inhrelid, h.inhparent))
  or exists (select from pg_depend d where d.refclassid in ('pg_proc'::regclass,
    'pg_operator'::regclass)
    and d.refobjid >= {_FIRST_OWN} and (
      d.classid = 'pg_attrdef'::regclass and d.objid in (select f.oid from pg_attrdef f
        where f.adrelid = c.oid)
      or d.classid = 'pg_constraint'::regclass
        and d.objid in (select k.oid from pg_constraint k where k.conrelid = c.oid
          or k.contypid in (select u.oid from used u where u.relation = c.oid))
      or d.classid = 'pg_class'::regclass
        and d.objid in (select i.indexrelid from pg_index i where i.indrelid = c.oid)))
  or exists (select from pg_attrdef f where f.adrelid = c.oid and pg_get_expr(f.adbin,
    f.adrelid) ~* %s)
  or exists (select from pg_constraint k where k.conrelid = c.oid
    and pg_get_constraintdef(k.oid) ~* %s))
"""
#: How often a change of rights is tried that met another run's.
MOST_TRIES = 50
_REACHES_OUT = (
    r"\m(pg_|lo_|set_config|setval|query_to|table_to|schema_to|database_to|cursor_to|dblink)"
)
_HIDDEN = (
    "select 1 from pg_class c where c.relnamespace = %s::regnamespace and c.relforcerowsecurity"
    " limit 1"
)
#: Tables whose rows are kept apart by more than keys on plain columns.
_GUARDED = """
select distinct c.relname from pg_index i join pg_class c on c.oid = i.indrelid
where c.relnamespace = %s::regnamespace and (i.indisexclusion or i.indisunique and (
  i.indpred is not null or i.indexprs is not null or exists (select from pg_attribute a
    where a.attrelid = c.oid and a.attnum = any (i.indkey::int2[]) and a.attgenerated <> '')))
"""
_FILLED = """
select c.relname, array_agg(a.attname::text order by a.attnum) from pg_class c
join pg_attribute a on a.attrelid = c.oid
where c.relnamespace = %s::regnamespace and c.relkind in ('r', 'p') and a.attnum > 0
  and a.attnotnull
  and not a.attisdropped group by c.relname
"""
#: Tables whose rows may be refused before they are locked: a check, a domain, a column that is
#: computed.
_CHECKED = """
select c.relname from pg_class c where c.relnamespace = %s::regnamespace and c.relkind in ('r', 'p')
  and (
  exists (select from pg_constraint k where k.conrelid = c.oid and k.contype = 'c')
  or exists (select from pg_attribute a left join pg_type t on t.oid = a.atttypid
    where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped and (a.attgenerated <> ''
      or t.typtype = 'd')))
"""
#: Columns of unique keys by the way in which their values are compared.
_KINDS = """
select distinct c.relname, a.attname, case
    when t.typname in ('int2', 'int4', 'int8') then 'integer'
    when t.typname = 'bpchar' or t.typname = 'varchar' and a.atttypmod > 4
      then 'text ' || a.atttypmod - 4
    else 'text' end
from pg_index i join pg_class c on c.oid = i.indrelid
join pg_attribute a on a.attrelid = c.oid and a.attnum = any (i.indkey::int2[])
join pg_type t on t.oid = a.atttypid left join pg_collation o on o.oid = a.attcollation
where c.relnamespace = %s::regnamespace and i.indisunique
  and t.typnamespace = 'pg_catalog'::regnamespace
  and (t.typname in ('int2', 'int4', 'int8') or t.typname in ('text', 'varchar', 'bpchar')
    and o.collisdeterministic)
"""
#: The kinds of values that the server is asked about: their equality is no collation's affair.
_ASKED = """
select c.relname, a.attname from pg_class c
join pg_attribute a on a.attrelid = c.oid join pg_type t on t.oid = a.atttypid
where c.relnamespace = %s::regnamespace and a.attnum > 0
  and t.typnamespace = 'pg_catalog'::regnamespace
  and t.typname in ('date', 'time', 'timetz', 'timestamp', 'timestamptz', 'interval', 'uuid',
    'numeric', 'float4',
    'float8', 'inet', 'cidr', 'macaddr', 'int4range', 'int8range', 'numrange', 'daterange',
    'tsrange', 'tstzrange')
"""
_TYPE = """
select format_type(a.atttypid, null), format_type(a.atttypid, a.atttypmod) from pg_attribute a
join pg_class c on c.oid = a.attrelid
where c.relnamespace = %s::regnamespace and lower(c.relname) = %s and a.attname = %s
"""
_APART = """
with v as (select n, v::{plain} as plain, v::{precise} as precise
  from json_array_elements_text($1::json)
  with ordinality as u (v, n))
select a.n, b.n from v a join v b on a.n < b.n
where a.plain <> b.plain and a.precise <> b.precise and a.plain <> b.precise
  and a.precise <> b.plain
"""
#: Names of functions that are not the server's own; one that stands for operators and casts, which
#: are called unnamed.
_FUNCTIONS = f"""
select proname::text from pg_proc where oid >= {_FIRST_OWN}
union all select '*' where exists (select from pg_operator where oid >= {_FIRST_OWN})
  or exists (select from pg_cast where oid >= {_FIRST_OWN})
"""
_LEFT_BEHIND = """
select n.nspname, obj_description(n.oid, 'pg_namespace') from pg_namespace n
where n.nspname like 'catenum\\_%%' and obj_description(n.oid, 'pg_namespace') like %s
"""


_ROLES_LEFT_BEHIND = (
    r"select rolname from pg_roles where rolname ~ '^catenum_[0-9a-f]{8}(_kept)?$' order by 1 desc"
)


class Scratch:
    """The schemas of one run: ``schema`` for the scenario, ``kept`` for the rows to put back.
    Raises psycopg.Error.
    """

    def __init__(
        self,
        connection: psycopg.Connection[Any],
        run: str,
        schema: str,
        kept: str,
        end: Callable[[int], None],
        role: str | None = None,
    ) -> None:
        """``end`` ends one of the run's own connections. ``role``: is made and dropped with the
        schemas, and owns them; nothing else is its.
        """
        self._end = end
        self.connection, self.run, self.schema, self.kept, self.role = (
            connection,
            run,
            schema,
            kept,
            role,
        )
        self.writer = connection
        self.ours: list[
            psycopg.Connection[Any]
        ] = []  # connections that are the run's own, not its sessions'
        self._made = self._used = False

    def _do(self, query: LiteralString, *parts: object) -> psycopg.Cursor[Any]:
        return self.connection.execute(sql.SQL(query).format(*parts), prepare=False)

    def _do_shared(self, query: LiteralString, *parts: object) -> None:
        """What changes rights on something that other runs share. PostgreSQL does not queue those
        who do that at one time: the later one is an error, "tuple concurrently updated", or that
        there is such a row of rights already.
        """
        for _ in range(MOST_TRIES):
            try:
                self._do(query, *parts)
                return
            except (psycopg.errors.InternalError_, psycopg.errors.UniqueViolation):
                self.connection.execute("select pg_catalog.pg_sleep(0.01)")
        self._do(query, *parts)

    def make(self) -> list[str]:
        """Clear what killed runs left, then make the schema. Returns what was cleared."""
        cleared = [name for name in self._left_behind() if self._clear(name)]
        self._made = True  # from here on there is something to drop, however far it comes
        for name in (self.schema, self.kept):
            self._alive_lock("pg_advisory_lock", name)
        if self.role is not None:
            self._make_roles(self.role)
        self._create()
        return cleared

    def _make_roles(self, name: str) -> None:
        """A login that may make tables in its own schemas and nothing else, with what a run needs:
        to set when it checks for deadlocks and whether triggers fire, and to read row locks. And
        one that besides sees rows that policies hide from a table's owner, for where there are
        such.
        """
        role, other = sql.Identifier(name), sql.Identifier(self.kept)
        self._do(
            "create role {} login; create role {} login bypassrls in role {}", role, other, role
        )
        if self.connection.info.server_version >= 150000:
            self._do_shared("grant set on parameter deadlock_timeout to {}", role)
            self._do_shared("grant set on parameter session_replication_role to {}", role)
        if self._do("select to_regprocedure('public.pgrowlocks(text)') is not null").fetchone() == (
            True,
        ):
            self._do_shared("grant execute on function public.pgrowlocks(text) to {}", role)

    def _drop_role(self, name: str) -> None:
        if self._do("select 1 from pg_roles where rolname = {}", name).fetchone():
            self._do_shared(
                "drop owned by {} cascade; drop role {}", sql.Identifier(name), sql.Identifier(name)
            )

    def _create(self) -> None:
        self.create_marked(self.schema)
        self._made = True
        self.enter()

    def create_marked(self, schema: str) -> None:
        """A schema with the comment by which the next run knows it, both or neither: a run may be
        killed between.
        """
        mark = f"{MARK}; run {self.run}; host {socket.gethostname()}; process {os.getpid()}"
        name = sql.Identifier(schema)
        owner = (
            sql.SQL("authorization {}").format(sql.Identifier(self.role))
            if self.role
            else sql.SQL("")
        )
        self._do(
            "create schema {} {}; comment on schema {} is {}", name, owner, name, mark
        )  # one implicit transaction

    def enter(self) -> None:
        """Names without a schema mean the scratch space again, whatever a script has set."""
        self.writer.execute(
            sql.SQL("set search_path = {}").format(sql.Identifier(self.schema)), prepare=False
        )

    def empty(self) -> None:
        """Make the schema again if something was put into it."""
        if self._used:
            self._do("drop schema {} cascade", sql.Identifier(self.schema))
            self._create()
        self._used = True

    def drop(self) -> None:
        """Both schemas, where they were made and the connection still stands."""
        if self._made and not self.connection.closed:
            self._do("set lock_timeout = '5s'")
            names = sql.Identifier(self.schema), sql.Identifier(self.kept)
            self._do("drop schema if exists {} cascade; drop schema if exists {} cascade", *names)
            if self.role is not None:
                self.end_sessions(f"catenum {self.run} %")
                self._drop_role(self.kept)
                self._drop_role(self.role)

    # -- what others left --------------------------------------------------------------------------

    def _left_behind(self) -> list[str]:
        """Schemas that carry both Catenum's name and its mark, regardless of whose run made them;
        on a private server logins too, since a run may be killed between the two.
        """
        found = [
            row[0] for row in self.connection.execute(_LEFT_BEHIND, [MARK + "%"], prepare=False)
        ]
        if self.role is not None:
            found += [row[0] for row in self.connection.execute(_ROLES_LEFT_BEHIND, prepare=False)]
        return list(dict.fromkeys(found))

    def _clear(self, schema: str) -> bool:
        if not self._alive_lock("pg_try_advisory_lock", schema):
            return False
        try:
            self.end_sessions(f"catenum {schema.removeprefix('catenum_')} %")
            self._do("drop schema if exists {} cascade", sql.Identifier(schema))
            self._drop_role(schema)
            return True
        except psycopg.Error:
            return False  # another's to drop, or still in use: not ours to force
        finally:
            self._alive_lock("pg_advisory_unlock", schema)

    def _alive_lock(self, function: LiteralString, schema: str) -> bool:
        row = self._do(
            "select {}({}, hashtext({}))", sql.SQL(function), _LOCK_CLASS, schema
        ).fetchone()
        return bool(row and row[0])

    def end_sessions(self, application: str) -> None:
        """End our own sessions by a pattern of their application's name, and wait until they have
        gone.
        """
        patience: LiteralString = ", 2000" if self.connection.info.server_version >= 140000 else ""
        self._do(
            "select pg_terminate_backend(pid{}) from pg_stat_activity where application_name like"
            " {} and (usename = current_user or application_name like replace(replace(usename,"
            " 'catenum_', 'catenum '), '_kept', '') || ' %') and pid <> all ({}) and pid <>"
            " pg_backend_pid()",
            sql.SQL(patience),
            application,
            [connection.info.backend_pid for connection in self.ours if not connection.closed],
        )

    def _read(self, query: LiteralString, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        """Rows of the catalogue. What another run drops meanwhile can be named there and be gone:
        then once more.
        """
        for _ in range(MOST_TRIES):
            try:
                return self.connection.execute(query, values or None).fetchall()
            except psycopg.Error as error:
                if not errors.vanished(str(error)):
                    raise
                found = error
        raise found

    # -- what stands in it -------------------------------------------------------------------------

    def tables(self) -> dict[str, TableKeys]:
        """The tables, with their primary and unique keys."""
        found: dict[str, TableKeys] = {}
        for row in self._read(_TABLES, [self.schema]):
            table, primary, unique, index, columns, parents, triggers, made = row
            new = TableKeys(
                primary=(),
                references=tuple(sorted(parents or ())),
                triggers=triggers,
                made=tuple(made or ()),
            )
            known = found.get(table, new)
            key = tuple(column for column in columns or () if column)
            if index:
                known = replace(known, indexes={**known.indexes, index: key})
            if primary:
                known = replace(known, primary=key)
            elif unique and key:
                known = replace(known, unique=(*known.unique, key))
            found[table] = known
        return found

    def described(self) -> dict[str, TableKeys]:
        """The tables, also with what the catalogue tells of them beyond their keys."""
        found = self.tables()

        def rows(query: str) -> Iterator[tuple[Any, ...]]:
            return (row for row in self._read(query, [self.schema]) if row[0] in found)

        # What is no table of ours, as a materialized view, is left out by ``rows``.
        for (table,) in self._read(_OPAQUE, [self.schema, self.schema, _REACHES_OUT, _REACHES_OUT]):
            found[table] = replace(found[table], opaque=True)
        for (table,) in rows(_GUARDED):
            found[table] = replace(found[table], guarded=True)
        for table, columns in rows(_FILLED):
            found[table] = replace(found[table], filled=tuple(columns))
        for (table,) in rows(_CHECKED):
            found[table] = replace(found[table], checked=True)
        for table, column in rows(_ASKED):
            found[table] = replace(found[table], kinds={**found[table].kinds, column: "asked"})
        for table, parent, columns in rows(_UNINDEXED):
            one = (str(parent), tuple(columns))
            found[table] = replace(found[table], unindexed=(*found[table].unindexed, one))
        for table, column, kind in rows(_KINDS):
            found[table] = replace(found[table], kinds={**found[table].kinds, column: kind})
        return found

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        """Which values of a column are the same; none is told where the server takes one of them
        for no such value.
        """
        rows = self._read(_TYPE, [self.schema, table, column])
        if len(rows) != 1:  # of two tables whose names differ by case, it may be either
            return {}
        plain, precise = (sql.SQL(name) for name in rows[0])
        query = sql.SQL(_APART).format(plain=plain, precise=precise)
        # The type may be the scenario's own, and what belongs to it is run by the scenario's login.
        texts = json.dumps([text for _, text in written]).encode()
        reported = ask(self.writer.pgconn, query.as_bytes(self.writer), self._end, values=[texts])
        if reported.status != pq.ExecStatus.TUPLES_OK:
            return {}
        rows_of = (
            [int(reported.get_value(row, i) or 0) - 1 for i in (0, 1)]
            for row in range(reported.ntuples)
        )
        return classes_of(written, [(one, other) for one, other in rows_of])

    def hides_rows(self) -> bool:
        """Whether a policy holds for the owner of a table, too."""
        return bool(self._read(_HIDDEN, [self.schema]))

    def functions(self) -> frozenset[str]:
        """The names of functions that are not the server's own, in any schema; ``*`` where
        operators or casts are.
        """
        return frozenset(row[0].lower() for row in self._read(_FUNCTIONS))
