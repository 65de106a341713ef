"""What stands in a schema besides rows, as one text: definitions, rights, and what the planner
knows.

Names and definitions only, no numbers of objects: two schemas made by the same script give the same
text.
"""

from __future__ import annotations

from psycopg import sql

#: One row for each part of a definition (PostgreSQL documentation, "System Catalogs").
_PARTS = """
select 'relation', concat_ws(' ', c.relname, c.relkind, c.relpersistence, c.relrowsecurity,
  c.relforcerowsecurity,
    c.relreplident, c.reloptions, c.relacl, c.relispartition, pg_get_expr(c.relpartbound, c.oid),
    case when c.relkind in ('v', 'm') then pg_get_viewdef(c.oid) end,
    case when c.relkind = 'p' then pg_get_partkeydef(c.oid) end)
  from pg_class c where c.relnamespace = s and c.relkind <> 't'
union all select 'column', concat_ws(' ', c.relname, row_number() over (partition by c.oid
  order by a.attnum),
    a.attname,
    format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity, a.attgenerated,
    a.attstattarget, a.attstorage,
    a.attoptions, a.attacl, o.collname, pg_get_expr(d.adbin, d.adrelid))
  from pg_class c join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
  left join pg_attrdef d on d.adrelid = c.oid and d.adnum = a.attnum left join pg_collation o
    on o.oid = a.attcollation
  where c.relnamespace = s and c.relkind in ('r', 'p', 'v', 'm', 'f', 'c')
union all select 'index', concat_ws(' ', pg_get_indexdef(i.indexrelid), i.indisvalid,
  i.indisclustered,
    i.indisreplident)
  from pg_index i join pg_class c on c.oid = i.indrelid where c.relnamespace = s
union all select 'constraint', concat_ws(' ', k.conrelid::regclass, k.conname, k.convalidated,
  k.condeferrable,
    k.condeferred,
    pg_get_constraintdef(k.oid))
  from pg_constraint k where k.connamespace = s
union all select 'trigger', concat_ws(' ', t.tgenabled, pg_get_triggerdef(t.oid))
  from pg_trigger t join pg_class c on c.oid = t.tgrelid where c.relnamespace = s
    and not t.tgisinternal
union all select 'rule', concat_ws(' ', r.ev_enabled, pg_get_ruledef(r.oid))
  from pg_rewrite r join pg_class c on c.oid = r.ev_class where c.relnamespace = s
    and r.rulename <> '_RETURN'
union all select 'policy', concat_ws(' ', c.relname, p.polname, p.polcmd, p.polpermissive,
  p.polroles::regrole[],
    pg_get_expr(p.polqual, p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid))
  from pg_policy p join pg_class c on c.oid = p.polrelid where c.relnamespace = s
union all select 'heir', concat_ws(' ', h.inhrelid::regclass, h.inhparent::regclass, h.inhseqno)
  from pg_inherits h join pg_class c on c.oid = h.inhrelid where c.relnamespace = s
union all select 'sequence', concat_ws(' ', c.relname, q.seqtypid::regtype, q.seqstart,
  q.seqincrement,
    q.seqmax, q.seqmin,
    q.seqcache, q.seqcycle)
  from pg_sequence q join pg_class c on c.oid = q.seqrelid where c.relnamespace = s
union all select 'function', concat_ws(' ', case when f.prokind in ('f', 'p')
  then pg_get_functiondef(f.oid)
    end, f.proname,
    f.proacl)
  from pg_proc f where f.pronamespace = s
union all select 'type', concat_ws(' ', t.typname, t.typtype, t.typnotnull, t.typdefault,
    t.typbasetype::regtype, t.typacl)
  from pg_type t where t.typnamespace = s and t.typelem = 0
union all select 'label', concat_ws(' ', e.enumtypid::regtype, e.enumsortorder, e.enumlabel)
  from pg_enum e join pg_type t on t.oid = e.enumtypid where t.typnamespace = s
union all select 'operator', o.oprname || o.oprleft::regtype || o.oprright::regtype || o.oprcode
  from pg_operator o where o.oprnamespace = s
union all select 'collation', concat_ws(' ', o.collname, o.collprovider, o.collisdeterministic)
  from pg_collation o where o.collnamespace = s
union all select 'statistics', pg_get_statisticsobjdef(x.oid)
  from pg_statistic_ext x where x.stxnamespace = s
union all select 'comment', concat_ws(' ', d.objsubid, c.relname, d.description)
  from pg_description d join pg_class c on c.oid = d.objoid and d.classoid = 'pg_class'::regclass
    where
    c.relnamespace = s
"""
#: What the planner goes by besides the tables' size (PostgreSQL documentation, "Statistics Used by
#: the Planner"). Of indexes it takes the number of rows from the table, unless they are partial
#: (get_relation_info in plancat.c).
_KNOWN = """
select 'known', concat_ws(' ', c.relname, c.reltuples, c.relpages, c.relallvisible)
  from pg_class c left join pg_index i on i.indexrelid = c.oid
  where c.relnamespace = s and (c.relkind in ('r', 'p', 'm') or i.indpred is not null)
union all select 'values', md5(string_agg(x::text, ' ' order by x.tablename, x.attname,
  x.inherited)) from pg_stats x
  where x.schemaname = (select nspname from pg_namespace where oid = s)
"""
_DIGEST = """
(select md5(coalesce(string_agg(kind || ' ' || part, E'\\n' order by kind, part), ''))
 from (select {{}}::regnamespace::oid as s) of_schema, lateral ({parts}) parts(kind, part))
"""


def shape_query(schema: str) -> sql.Composed:
    """An expression for all definitions of a schema."""
    return sql.SQL(_DIGEST.format(parts=_PARTS)).format(sql.Literal(schema))


def known_query(schema: str) -> sql.Composed:
    """An expression for what the planner knows of a schema's tables."""
    return sql.SQL(_DIGEST.format(parts=_KNOWN)).format(sql.Literal(schema))


def sizes_query(schema: str) -> sql.Composed:
    """An expression for the size of each table and index, in bytes: lines of table, table or index,
    and size, parted by tabs.
    """
    query = (
        "(select coalesce(string_agg(coalesce(t.relname, c.relname) || e'\\t' || c.relname ||"
        " e'\\t' || pg_relation_size(c.oid), e'\\n' order by c.relname), '') from pg_class c left"
        " join pg_index i on i.indexrelid = c.oid left join pg_class t on t.oid = i.indrelid where"
        " c.relnamespace = {}::regnamespace and c.relkind in ('r', 'm', 'i'))"
    )
    return sql.SQL(query).format(sql.Literal(schema))
