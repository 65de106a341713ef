"""The scratch space of one run: a schema that is made, marked, looked into, cleared after a killed run, and dropped.

A run says that it lives by an advisory lock, which goes with its connection: whose lock can be taken, that run is dead.
"""

from __future__ import annotations

import os
import socket
from dataclasses import replace
from typing import Any, LiteralString

import psycopg
from psycopg import sql

from catenum.core.recording import TableKeys

MARK = "catenum scratch space"
_LOCK_CLASS = 0x63617465  # the class of the advisory locks by which runs say that they live
_TABLES = r"""
select c.relname, i.indisprimary, i.indisunique, ic.relname, array_agg(a.attname::text order by k.place),
       (select array_agg(distinct p.relname::text) from pg_constraint f join pg_class p on p.oid = f.confrelid
        where f.conrelid = c.oid and f.contype = 'f'),
       exists (select from pg_trigger t where t.tgrelid = c.oid and not t.tgisinternal) or c.relhasrules
       or c.relkind = 'p',
       (select array_agg(m.attname::text order by m.attnum) from pg_attribute m
        left join pg_attrdef d on d.adrelid = m.attrelid and d.adnum = m.attnum
        where m.attrelid = c.oid and m.attnum > 0 and not m.attisdropped and (m.attidentity <> ''
          or pg_get_expr(d.adbin, d.adrelid) ~* 'nextval|now\(|current_|clock_timestamp|random|uuid|localtime'))
from pg_class c
join pg_namespace n on n.oid = c.relnamespace
left join pg_index i on i.indrelid = c.oid and i.indpred is null and i.indexprs is null
left join pg_class ic on ic.oid = i.indexrelid
left join lateral unnest(i.indkey::int2[]) with ordinality k(attnum, place) on k.place <= i.indnkeyatts
left join pg_attribute a on a.attrelid = c.oid and a.attnum = k.attnum
where n.nspname = %s and c.relkind in ('r', 'p')
group by c.oid, c.relname, c.relkind, c.relhasrules, i.indexrelid, i.indisprimary, i.indisunique, ic.relname
order by c.relname, ic.relname
"""
_LEFT_BEHIND = """
select n.nspname, obj_description(n.oid, 'pg_namespace') from pg_namespace n
where n.nspname like 'catenum\\_%%' and obj_description(n.oid, 'pg_namespace') like %s
"""


class Scratch:
    """The schemas of one run: ``schema`` for the scenario, ``kept`` for the rows to put back. Raises psycopg.Error."""

    def __init__(self, connection: psycopg.Connection[Any], run: str, schema: str, kept: str) -> None:
        self.connection, self.run, self.schema, self.kept = connection, run, schema, kept
        self._made = False

    def _do(self, query: LiteralString, *parts: object) -> psycopg.Cursor[Any]:
        return self.connection.execute(sql.SQL(query).format(*parts), prepare=False)

    def make(self) -> list[str]:
        """Clear what killed runs left, then make the schema. Returns what was cleared."""
        cleared = [name for name in self._left_behind() if self._clear(name)]
        for name in (self.schema, self.kept):
            self._alive_lock("pg_advisory_lock", name)
        self._create()
        return cleared

    def _create(self) -> None:
        self.create_marked(self.schema)
        self._made = True
        self.enter()

    def create_marked(self, schema: str) -> None:
        """A schema with the comment by which the next run knows it, both or neither: a run may be killed between."""
        mark = f"{MARK}; run {self.run}; host {socket.gethostname()}; process {os.getpid()}"
        name = sql.Identifier(schema)
        self._do("create schema {}; comment on schema {} is {}", name, name, mark)  # one implicit transaction

    def enter(self) -> None:
        """Names without a schema mean the scratch space again, whatever a script has set."""
        self._do("set search_path = {}", sql.Identifier(self.schema))

    def empty(self) -> None:
        """Make the schema anew where something stands in it."""
        row = self._do("select 1 from pg_class where relnamespace = {}::regnamespace limit 1", self.schema).fetchone()
        if row is not None:
            self._do("drop schema {} cascade", sql.Identifier(self.schema))
            self._create()

    def drop(self) -> None:
        """Both schemas, where they were made and the connection still stands."""
        if self._made and not self.connection.closed:
            self._do("set lock_timeout = '5s'")
            names = sql.Identifier(self.schema), sql.Identifier(self.kept)
            self._do("drop schema if exists {} cascade; drop schema if exists {} cascade", *names)

    # -- what others left --------------------------------------------------------------------------------------------

    def _left_behind(self) -> list[str]:
        """Schemas that carry both Catenum's name and its mark, whoever's run made them."""
        return [row[0] for row in self.connection.execute(_LEFT_BEHIND, [MARK + "%"], prepare=False)]

    def _clear(self, schema: str) -> bool:
        if not self._alive_lock("pg_try_advisory_lock", schema):
            return False
        try:
            self.end_sessions(f"catenum {schema.removeprefix('catenum_')} %")
            self._do("drop schema {} cascade", sql.Identifier(schema))
            return True
        except psycopg.Error:
            return False  # somebody else's to drop, or still in use: not ours to force
        finally:
            self._alive_lock("pg_advisory_unlock", schema)

    def _alive_lock(self, function: LiteralString, schema: str) -> bool:
        row = self._do("select {}({}, hashtext({}))", sql.SQL(function), _LOCK_CLASS, schema).fetchone()
        return bool(row and row[0])

    def end_sessions(self, application: str) -> None:
        """End our own sessions by a pattern of their application's name, and wait until they have gone."""
        patience: LiteralString = ", 2000" if self.connection.info.server_version >= 140000 else ""
        self._do(
            "select pg_terminate_backend(pid{}) from pg_stat_activity "
            "where application_name like {} and usename = current_user and pid <> pg_backend_pid()",
            sql.SQL(patience),
            application,
        )

    # -- what stands in it -------------------------------------------------------------------------------------------

    def tables(self) -> dict[str, TableKeys]:
        """The tables, with their primary and unique keys."""
        found: dict[str, TableKeys] = {}
        for row in self.connection.execute(_TABLES, [self.schema]).fetchall():
            table, primary, unique, index, columns, parents, triggers, made = row
            new = TableKeys(
                primary=(), references=tuple(sorted(parents or ())), triggers=triggers, made=tuple(made or ())
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
