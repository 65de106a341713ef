"""Small scenarios over the SQL that servers take: tables with all that can hang on them, and
statements that meet there.

Every piece is some DDL and the statements that go with it. ``{k}`` is a key of a row that is there,
``{n}`` one of a row that is not (yet), ``{v}`` a number, ``{w}`` a word.
"""

from __future__ import annotations

import random
from dataclasses import replace

from enumerating.walk import Case, Part, connection_of

Piece = tuple[str, tuple[str, ...]]

COMMON = (
    "create table berth (id int primary key, moved int, vessel int); insert into berth values (1, 0, 1), (2, 0, 2), (3, 0, 1);"
    "create table crane (id int primary key, moved int); insert into crane values (1, 0), (2, 0);"
)
PLAIN = (
    "update berth set moved = moved + 1 where id = {k}", "update berth set moved = {v} where id = {k}", "select moved from berth where id = {k}",
    "select sum(moved) from berth", "select * from berth where moved = {v}", "update berth set moved = {v} where vessel = {k}",
    "insert into berth values ({n}, {v}, {k})", "delete from berth where id = {k}", "select moved from berth where id = {k} for update",
    "select moved from berth where id = {k} for share" , "update crane set moved = moved + 1 where id = {k}", "select moved from crane where id = {k}",
    "update crane set moved = (select moved from berth where id = {k}) where id = {k}", "update berth set moved = (select max(moved) from crane) + 1 where id = {k}",
    "delete from berth where moved > {v}", "update berth set id = {n} where id = {k}", "select count(*) from berth where id between 1 and {k}",
    "insert into crane select id + 3, moved from berth where id = {k}", "update berth set moved = moved + 1 where id in (1, {k})", "select id from berth where vessel = {k} for update",
    "select b.moved, c.moved from berth b join crane c on b.id = c.id where b.id = {k}", "update berth set moved = moved + 1",
)  # fmt: skip

POSTGRESQL: dict[str, Piece] = {
    "lock clauses": ("", (
        "select moved from berth where id = {k} for no key update", "select moved from berth where id = {k} for key share", "select moved from berth where id = {k} for update nowait",
        "select moved from berth where id = {k} for update skip locked", "select * from (select * from berth where id = {k}) b for update",
        "select b.moved from berth b join crane c on b.id = c.id where b.id = {k} for update of c", "lock table berth in share mode", "lock table crane", "select moved from berth order by id limit 1 for update",
        "select b.id from berth b, crane c where c.id = b.id and b.id = {k} for share",
    )),
    "common table expressions": ("", (
        "with gone as (delete from berth where id = {k} returning id) select * from gone", "with berth as (select * from berth where id = {k} for update) select moved from berth",
        "with a as (update berth set moved = {v} where id = {k} returning id), b as (update crane set moved = {v} where id = {k} returning id) select count(*) from a, b",
        "with x as (select moved from crane where id = {k}) update berth set moved = x.moved from x where id = {k}", "with x as (insert into berth values ({n}, {v}, 1) returning id) update crane set moved = 5 where id in (select id - 3 from x)",
    )),
    "row assigned": ("", ("update berth set (moved, vessel) = ({v}, {v}) where id = {k}", "update berth set (id, moved) = ({n}, {v}) where id = {k}", "update berth set (moved) = (select moved from crane where id = {k}) where id = {k}")),
    "update from": ("", ("update berth set moved = c.moved + 1 from crane c where c.id = berth.id and c.id = {k}", "delete from berth using crane c where c.id = berth.id and c.moved = {v}", "update crane c set moved = b.moved from berth b where b.id = c.id")),
    "merge": ("", ("merge into berth b using crane c on b.id = c.id when matched then update set moved = c.moved + {v}", "merge into berth b using (values ({n}, {v})) s (id, m) on b.id = s.id when matched then update set moved = s.m when not matched then insert values (s.id, s.m, 1)")),
    "truncate": ("", ("truncate crane", "truncate crane, berth")),
    "upsert": ("", ("insert into berth values ({n}, {v}, 1) on conflict (id) do update set moved = berth.moved + 1", "insert into berth values ({k}, {v}, 1) on conflict (id) do update set moved = excluded.moved", "insert into berth values ({n}, 0, 1) on conflict do nothing", "insert into berth values ({n}, {v}, 2) on conflict (id) do update set vessel = {k} where berth.moved = {v} returning moved")),
    "foreign key": ("create table box (id int primary key, berth int references berth (id)); insert into box values (1, 1), (2, 2);", ("insert into box values ({n}, {k})", "update box set berth = {k} where id = {k}", "delete from box where id = {k}", "delete from berth where id = {k}", "select count(*) from box where berth = {k}", "alter table crane add foreign key (id) references berth (id)")),
    "cascade": ("create table box (id int primary key, berth int references berth (id) on delete cascade on update cascade); create table item (id int primary key, box int references box (id) on delete cascade); insert into box values (1, 1), (2, 2); insert into item values (1, 1), (2, 1), (3, 2);", ("delete from berth where id = {k}", "update berth set id = {n} where id = {k}", "update item set box = {k} where id = {k}", "insert into item values ({n}, {k})", "select count(*) from item", "update box set berth = {k} where id = {k}", "truncate berth cascade", "delete from item where id = {k}")),
    "deferred key": ("create table box (id int primary key, berth int references berth (id) deferrable initially deferred); insert into box values (1, 1);", ("insert into box values ({n}, {k})", "delete from berth where id = {k}", "insert into berth values ({n}, 0, 1)", "insert into box values ({n}, {n})", "delete from box where id = {k}", "set constraints all immediate")),
    "set null": ("create table box (id int primary key, berth int references berth (id) on delete set null); insert into box values (1, 1), (2, 2);", ("delete from berth where id = {k}", "update box set berth = {k} where id = {k}", "select berth from box where id = {k}")),
    "trigger": ("create function tells() returns trigger language plpgsql as $$begin update crane set moved = moved + 1 where id = 1; return null; end$$; create trigger tells after update on berth for each row execute function tells();", ("update berth set moved = {v} where id = {k}",)),
    "check over a sum": ("create function tells() returns trigger language plpgsql as $$begin if (select sum(moved) from berth) > 4 then raise 'too many'; end if; return null; end$$; create trigger tells after insert or update on berth for each row execute function tells();", ("update berth set moved = moved + 2 where id = {k}", "update berth set moved = 3 where id = {k}", "insert into berth values ({n}, 3, 1)")),
    "deferred trigger": ("create function tells() returns trigger language plpgsql as $$begin if (select count(*) from berth where vessel = 1) > 2 then raise 'too many'; end if; return null; end$$; create constraint trigger tells after insert or update on berth deferrable initially deferred for each row execute function tells();", ("insert into berth values ({n}, 0, 1)", "update berth set vessel = 1 where id = {k}", "update berth set vessel = 3 where id = {k}")),
    "trigger beyond a cascade": ("create table box (id int primary key, berth int references berth (id) on delete cascade); insert into box values (1, 1), (2, 2); create function tells() returns trigger language plpgsql as $$begin update crane set moved = 8 where id = 1; return old; end$$; create trigger tells after delete on box for each row execute function tells();", ("delete from berth where id = {k}", "delete from box where id = {k}")),
    "rule": ("create rule also as on update to berth do also update crane set moved = 9 where id = 1;", ("update berth set moved = {v} where id = {k}",)),
    "view": ("create view quay as select id, moved from berth where moved < 9; create view both_of as select b.id, c.moved from berth b join crane c on c.id = b.id;", ("update quay set moved = {v} where id = {k}", "select sum(moved) from quay", "select moved from both_of where id = {k}", "delete from quay where id = {k}", "insert into quay values ({n}, {v})", "select * from quay where id = {k} for update")),
    "materialised view": ("create materialized view totals as select sum(moved) as s from berth;", ("refresh materialized view totals", "select s from totals")),
    "partitions": ("create table slot (id int primary key, box int) partition by range (id); create table slot_low partition of slot for values from (0) to (3); create table slot_high partition of slot for values from (3) to (20); insert into slot values (1, 0), (2, 0), (3, 0);", ("update slot set box = {v} where id = {k}", "update slot_low set box = {v} where id = {k}", "update slot set id = {n} where id = {k}", "insert into slot values ({n}, {v})", "select sum(box) from slot", "select box from slot_high where id = 3", "delete from slot where id = {k}", "lock table slot_low")),
    "heirs": ("create table pier (length int) inherits (berth); insert into pier values (1, 0, 1, 9), (7, 0, 1, 9);", ("select count(*) from berth", "update berth set moved = {v} where id = {k}", "insert into pier values ({n}, 0, 1, 1)", "update pier set moved = {v} where id = 1", "select count(*) from only berth", "delete from pier where id = {k}")),
    "policy": ("create function may(int) returns boolean language sql as 'select moved < 5 from crane where id = 1'; alter table berth enable row level security; create policy p on berth using (may(moved));", ("select sum(moved) from berth", "update crane set moved = 7 where id = 1")),
    "function in a default": ("create function next_one() returns int language sql as 'update crane set moved = moved + 1 where id = 1 returning moved'; alter table berth alter moved set default next_one();", ("insert into berth (id) values ({n})", "insert into berth (id, moved) values ({n}, default)")),
    "function in a check": ("create function takes(int) returns boolean language sql as 'select moved >= 0 from (select moved from crane where id = 1 for update) c'; alter table berth add check (takes(moved));", ("update berth set moved = {v} where id = {k}", "insert into berth values ({n}, 1, 1)")),
    "domain": ("create function fits(int) returns boolean language sql as 'select count(*) < 9 from crane'; create domain tons as int check (fits(value)); create table load (id int primary key, t tons); insert into load values (1, 1);", ("update load set t = {v} where id = {k}", "insert into load values ({n}, {v})", "insert into crane values ({n}, 0)")),
    "generated column": ("create table load (id int primary key, t int, twice int generated always as (t * 2) stored unique); insert into load values (1, 1), (2, 2);", ("update load set t = {v} where id = {k}", "insert into load values ({n}, {v})", "select twice from load where id = {k}", "delete from load where id = {k}")),
    "own function": ("create function bump(int) returns int language sql as 'update crane set moved = moved + 1 where id = $1 returning moved'; create function total() returns bigint language sql as 'select sum(moved) from berth'; create function reverse(int) returns int language sql as 'update crane set moved = $1 where id = 2 returning moved';", ("select bump({k})", "select total()", "select reverse({v})", "update berth set moved = bump(1) where id = {k}", "select moved from berth where id = bump({k})")),
    "index expression": ("create function fold(int) returns int immutable language plpgsql as $$begin return $1 % 4; end$$; create unique index on berth (fold(id + 1));", ("insert into berth values ({n}, 0, 1)", "delete from berth where id = {k}", "update berth set id = {n} where id = {k}")),
    "second unique key": ("create table box (id int primary key, label text unique); insert into box values (1, 'a'), (2, 'b');", ("insert into box values ({n}, '{w}')", "delete from box where id = {k}", "update box set label = '{w}' where id = {k}", "insert into box values ({n}, '{w}') on conflict (label) do update set label = 'z'", "insert into box values ({n}, '{w}') on conflict do nothing", "select id from box where label = '{w}'", "insert into box values ({n}, '{w}'), ({k}, 'q') on conflict (id) do nothing")),
    "partial unique key": ("create table slot (id int primary key, box int, taken boolean); create unique index on slot (box) where taken; insert into slot values (1, 1, true), (2, 2, false);", ("insert into slot values ({n}, {k}, true)", "update slot set taken = true where id = {k}", "delete from slot where id = {k}", "insert into slot values ({n}, {k}, false)", "update slot set box = {k} where id = {k}")),
    "exclusion": ("create table stay (id int primary key, days int4range, exclude using gist (days with &&)); insert into stay values (1, '[1,4]');", ("insert into stay values ({n}, '[5,8]')", "insert into stay values ({n}, '[8,9)')", "delete from stay where id = {k}", "update stay set days = '[2,3]' where id = {k}", "insert into stay values ({n}, '[4,6]')")),
    "times": ("create table tide (at time primary key, cm int); insert into tide values ('10:00', 1), ('11:00', 1);", ("update tide set cm = {v} where at = '10:00'", "update tide set cm = {v} where at = '10:00:00'", "update tide set cm = {v} where at = '11:00'", "insert into tide values ('12:00', {v})", "insert into tide values ('12:00:00.0', {v})", "delete from tide where at = time '10:00'")),
    "numerics": ("create table load (t numeric primary key, n int); insert into load values (1.0, 0), (2, 0), ('nan', 0);", ("update load set n = {v} where t = 1", "update load set n = {v} where t = 1.00", "update load set n = {v} where t = 'nan'", "update load set n = {v} where t = 'NaN'", "update load set n = {v} where t = 2e0", "insert into load values (3.0, 0)", "insert into load values (3, 0)")),
    "texts": ("create collation folded (provider = icu, locale = 'und-u-ks-level2', deterministic = false); create table quay (name text collate folded primary key, n int); insert into quay values ('East', 0), ('West', 0);", ("update quay set n = {v} where name = 'East'", "update quay set n = {v} where name = 'EAST'", "update quay set n = {v} where name = 'West'", "insert into quay values ('north', {v})", "insert into quay values ('North', {v})")),
    "savepoints": ("", ("savepoint here", "rollback to savepoint here", "release savepoint here")),
    "levels": ("", ("set transaction isolation level repeatable read", "set transaction isolation level serializable", "set transaction read only")),
    "advisory": ("", ("select pg_advisory_xact_lock({k})", "select pg_advisory_xact_lock_shared({k})", "select pg_try_advisory_xact_lock({k})")),
    "schema changes": ("", ("alter table berth add column more int", "create index on berth (moved)", "alter table crane alter moved set default 5", "drop table crane", "create table yard (id int primary key)", "insert into yard values ({n})", "create table copied as select id, moved from berth", "alter table crane rename to hoist", "comment on table berth is 'x'")),
    "blocks": ("", ("do $$begin update berth set moved = moved + 1 where id = 1; end$$", "do $$begin perform moved from crane where id = 2 for update; end$$")),
    "prepared": ("", ("prepare p{k} as update berth set moved = {v} where id = {k}", "execute p{k}")),
    "sequence": ("create sequence tickets;", ("select setval('tickets', {v})", "insert into berth values (4 + {k}, (select last_value from tickets), 1)")),
    "cursor": ("", ("declare c cursor for select moved from berth where id = {k} for update", "fetch c", "update berth set moved = 7 where current of c", "close c")),
}  # fmt: skip

MARIADB: dict[str, Piece] = {
    "lock clauses": ("", ("select moved from berth where id = {k} for update", "select moved from berth where id = {k} lock in share mode", "select moved from berth where id = {k} for update nowait", "select moved from berth where id = {k} for update skip locked", "select id from berth where id > {k} for update", "select b.moved from berth b join crane c on b.id = c.id where b.id = {k} for update", "select moved from berth order by id desc limit 1 for update")),
    "indexes": ("create index by_vessel on berth (vessel); create index by_moved on berth (moved);", ("update berth set moved = {v} where vessel = {k}", "select id from berth where vessel = {k} for update", "delete from berth where vessel = {k}", "insert into berth values ({n}, {v}, {k})", "select count(*) from berth where moved between 0 and {v} lock in share mode", "update berth set vessel = {k} where moved = {v}", "select id from berth where vessel = 5 for update")),
    "no row": ("", ("select id from berth where id = {n} for update", "insert into berth values ({n}, {v}, {k})", "delete from berth where id = {n}", "update berth set moved = 1 where id = {n}", "insert ignore into berth values ({n}, {v}, 1)")),
    "two tables": ("", ("update berth b join crane c on b.id = c.id set b.moved = {v}, c.moved = {v} where b.id = {k}", "delete b, c from berth b join crane c on b.id = c.id where b.id = {k}", "update berth b join crane c on b.id = c.id set b.moved = c.moved + 1 where c.id = {k}", "delete b from berth b join crane c on b.id = c.id where c.moved = {v}", "update berth, crane set berth.moved = 3 where berth.id = crane.id and crane.id = {k}", "delete from berth where id in (select id from crane where moved = {v})")),
    "replace": ("", ("replace into berth values ({k}, {v}, 1)", "replace into berth values ({n}, {v}, 1)", "replace into berth select id, moved, 7 from crane where id = {k}")),
    "upsert": ("", ("insert into berth values ({n}, {v}, 1) on duplicate key update moved = moved + 1", "insert into berth values ({k}, {v}, 1) on duplicate key update moved = {v}", "insert ignore into berth values ({k}, 0, 1)", "insert into berth values ({n}, {v}, 1), ({k}, {v}, 1) on duplicate key update moved = values(moved)", "insert into berth values ({n}, 1, 1) returning id")),
    "second unique key": ("create table box (id int primary key, label varchar(9) unique, tons int); insert into box values (1, 'a', 0), (2, 'b', 0);", ("insert into box values ({n}, '{w}', {v})", "insert into box values ({n}, '{w}', {v}) on duplicate key update tons = tons + 1", "delete from box where id = {k}", "update box set label = '{w}' where id = {k}", "update box set tons = {v} where label = '{w}'", "select id from box where label = '{w}' for update", "replace into box values ({n}, '{w}', {v})", "select tons from box where id = {k}")),
    "foreign key": ("create table box (id int primary key, berth int, foreign key (berth) references berth (id)); insert into box values (1, 1), (2, 2);", ("insert into box values ({n}, {k})", "update box set berth = {k} where id = {k}", "delete from box where id = {k}", "delete from berth where id = {k}", "select count(*) from box where berth = {k}")),
    "cascade": ("create table box (id int primary key, berth int, foreign key (berth) references berth (id) on delete cascade on update cascade); create table item (id int primary key, box int, foreign key (box) references box (id) on delete cascade); insert into box values (1, 1), (2, 2); insert into item values (1, 1), (2, 1), (3, 2);", ("delete from berth where id = {k}", "update berth set id = {n} where id = {k}", "update item set box = {k} where id = {k}", "insert into item values ({n}, {k})", "select count(*) from item", "update box set berth = {k} where id = {k}", "delete from item where id = {k}")),
    "set null": ("create table box (id int primary key, berth int, foreign key (berth) references berth (id) on delete set null); insert into box values (1, 1), (2, 2);", ("delete from berth where id = {k}", "update box set berth = {k} where id = {k}", "select berth from box where id = {k}")),
    "trigger": ("create trigger tells after update on berth for each row update crane set moved = moved + 1 where id = 1;", ("update berth set moved = {v} where id = {k}", "select moved from crane where id = 1")),
    "view": ("create view quay as select id, moved from berth where moved < 9 with check option; create view both_of as select b.id, c.moved from berth b join crane c on c.id = b.id;", ("update quay set moved = {v} where id = {k}", "select sum(moved) from quay", "select moved from both_of where id = {k}", "delete from quay where id = {k}", "insert into quay values ({n}, {v})", "select * from quay where id = {k} for update", "update both_of set moved = {v} where id = {k}")),
    "view over a trigger": ("create trigger tells after update on berth for each row update crane set moved = moved + 1 where id = 1; create view quay as select id, moved from berth;", ("update quay set moved = {v} where id = {k}",)),
    "dates": ("create table tide (day date primary key, cm int); insert into tide values ('2026-03-01', 1), ('2026-03-02', 1);", ("update tide set cm = {v} where day = '2026-03-01'", "update tide set cm = {v} where day = '20260301'", "update tide set cm = {v} where day = '2026-03-02'", "insert into tide values ('2026-03-03', {v})", "insert into tide values ('2026-3-3', {v})")),
    "times": ("create table tide (at datetime primary key, cm int); insert into tide values ('2026-03-01 10:00:00', 1), ('2026-03-01 11:00', 1);", ("update tide set cm = {v} where at = '2026-03-01 10:00'", "update tide set cm = {v} where at = '2026-03-01 10:00:00'", "update tide set cm = {v} where at = 20260301110000")),
    "accents": ("create table quay (name varchar(9) collate utf8mb4_general_ci primary key, n int) character set utf8mb4; insert into quay values ('Ole', 0), ('Per', 0);", ("update quay set n = {v} where name = 'Ole'", "update quay set n = {v} where name = 'olé'", "update quay set n = {v} where name = 'Per '", "insert into quay values ('Jan', {v})", "insert into quay values ('jän', {v})")),
    "myisam": ("create table note (id int primary key, n int) engine = myisam; insert into note values (1, 0), (2, 0);", ("update note set n = {v} where id = {k}", "select n from note where id = {k}", "insert into note values ({n}, {v})")),
    "partitions": ("create table slot (id int primary key, box int) partition by range (id) (partition low values less than (3), partition high values less than (20)); insert into slot values (1, 0), (2, 0), (3, 0);", ("update slot set box = {v} where id = {k}", "update slot set id = {n} where id = {k}", "insert into slot values ({n}, {v})", "select sum(box) from slot", "delete from slot where id = {k}", "select box from slot where id = {k} for update")),
    "prefix key": ("create table box (id int primary key, label varchar(9), unique (label(2))); insert into box values (1, 'abc');", ("insert into box values ({n}, 'abd')", "insert into box values ({n}, 'acd')", "delete from box where id = {k}", "update box set label = 'ac' where id = {k}")),
    "generated column": ("create table load_of (id int primary key, t int, twice int as (t * 2) stored, unique (twice)); insert into load_of (id, t) values (1, 1), (2, 2);", ("update load_of set t = {v} where id = {k}", "insert into load_of (id, t) values ({n}, {v})", "select twice from load_of where id = {k}", "delete from load_of where id = {k}")),
    "own function": ("create function bump(k int) returns int modifies sql data begin update crane set moved = moved + 1 where id = k; return k; end; create function total() returns int reads sql data return (select sum(moved) from berth);", ("select bump({k})", "select total()", "update berth set moved = total() where id = {k}", "select moved from berth where id = bump({k})")),
    "procedure": ("create procedure moves(k int) modifies sql data update berth set moved = moved + 1 where id = k;", ("call moves({k})",)),
    "auto increment": ("create table ticket (id int auto_increment primary key, k int); insert into ticket (k) values (1);", ("update ticket set k = {v} where id = 1", "select k from ticket where id = 1 for update", "delete from ticket where id = 1")),
    "savepoints": ("", ("savepoint here", "rollback to savepoint here", "release savepoint here")),
    "levels": ("", ("set @a = (select moved from berth where id = {k})", "update crane set moved = @a where id = {k}")),
    "named locks": ("", ("select get_lock('pier', 0)", "select release_lock('pier')", "select is_free_lock('pier')")),
    "schema changes": ("", ("alter table berth add column more int", "create index by_m on berth (moved)", "truncate crane", "create table yard (id int primary key)", "rename table crane to hoist", "drop table crane", "insert into yard values ({n})", "create table copied as select id, moved from berth")),
    "prepared": ("", ("prepare p from 'update berth set moved = 5 where id = 1'", "execute p")),
    "insert by query": ("", ("insert into crane select id + 3, moved from berth", "insert into crane (id, moved) select {n}, sum(moved) from berth", "insert into crane select {n}, moved from berth where id = {k} on duplicate key update moved = 1")),
    "sequence": ("create sequence tickets;", ("select setval(tickets, {v})", "select moved from berth where id = {k}")),
    "common table expressions": ("", ("with x as (select moved from berth where id = {k}) select * from x", "with berth as (select * from crane) select sum(moved) from berth", "select * from (select * from berth where id = {k} for update) b", "select (select moved from berth where id = {k} for update)", "select id from crane where exists (select 1 from berth where berth.id = crane.id for update)")),
}  # fmt: skip
#: What MySQL has of these, written its way, and what it has beside them.
MYSQL: dict[str, Piece] = {
    **{
        name: (data, tuple(text.replace("lock in share mode", "for share").replace(" returning id", "") for text in statements))
        for name, (data, statements) in MARIADB.items() if name != "sequence"
    },
    "lock clauses by table": ("", ("select b.moved from berth b join crane c on b.id = c.id where b.id = {k} for update of c", "select b.moved from berth b join crane c on b.id = c.id where b.id = {k} for share of b skip locked", "select moved from berth where id = {k} for share nowait", "select moved from berth where id = {k} lock in share mode", "table crane", "select b.moved from berth b join crane c on b.id = c.id where b.id = {k} for update of b for share of c")),
    "row aliases": ("", ("insert into berth values ({n}, {v}, 1) as new on duplicate key update moved = new.moved + 1", "insert into berth values ({k}, {v}, 1) as new on duplicate key update vessel = new.moved", "insert into berth values row({n}, {v}, 1), row({k}, 1, 1) on duplicate key update moved = 3")),
    "key on an expression": ("create table box (id int primary key, label varchar(9), unique ((lower(label)))); insert into box values (1, 'a'), (2, 'b');", ("insert into box values ({n}, '{w}')", "insert into box values ({n}, upper('{w}'))", "delete from box where id = {k}", "update box set label = '{w}' where id = {k}", "select id from box where lower(label) = '{w}' for update")),
    "odd keys": ("create table box (id int primary key, label varchar(9), tons int, key down (tons desc), unique key hid (label) invisible); insert into box values (1, 'a', 1), (2, 'b', 2);", ("insert into box values ({n}, '{w}', {v})", "update box set tons = {v} where id = {k}", "select id from box where tons = {v} for update", "select id from box where tons > 1 order by tons desc limit 1 for update", "delete from box where tons = {v}", "update box set label = '{w}' where id = {k}")),
    "check": ("alter table berth add constraint fits check (moved + vessel < 6);", ("update berth set moved = {v} where id = {k}", "update berth set vessel = {v} where id = {k}", "insert into berth values ({n}, {v}, {k})")),
    "instant column": ("alter table berth add column more int default 7, algorithm = instant;", ("update berth set more = {v} where id = {k}", "alter table crane add column more int, algorithm = instant", "select more from berth where id = {k} for update")),
    "own number": ("create table ticket (id int auto_increment primary key, k int); insert into ticket (k) values (1);", ("update ticket set k = last_insert_id({v}) where id = 1", "select k from ticket where id = 1")),
}  # fmt: skip
PIECES = {"postgresql": POSTGRESQL, "mariadb": MARIADB, "mysql": MYSQL}
LEVELS = {
    "postgresql": (None, None, None, "repeatable read", "repeatable read", "serializable"),
    "mariadb": (
        None,
        None,
        None,
        "read committed",
        "read committed",
        "serializable",
        "read uncommitted",
    ),
    "mysql": (
        None,
        None,
        None,
        "read committed",
        "read committed",
        "serializable",
        "read uncommitted",
    ),
}
RULES = {
    "no two alike": "select count(*) = count(distinct moved) from berth",
    "not too many": "select coalesce(sum(moved), 0) < 6 from berth",
}


def case(server: str, seed: int) -> Case:
    """The scenario of this number: a server's piece or two and what is plain, in two or three
    transactions.
    """
    chance = random.Random(f"{server} {seed}")
    pieces = PIECES[server]
    chosen = chance.sample(sorted(pieces), chance.choice((1, 1, 1, 2)))
    if (
        sum("create table box" in pieces[name][0] or "tells" in pieces[name][0] for name in chosen)
        > 1
    ):
        chosen = chosen[:1]
    if (
        sum(
            "tide" in pieces[name][0] or "load" in pieces[name][0] or "slot" in pieces[name][0]
            for name in chosen
        )
        > 1
    ):
        chosen = chosen[:1]
    if sum("quay" in pieces[name][0] for name in chosen) > 1:
        chosen = chosen[:1]
    special = [sql for name in chosen for sql in pieces[name][1]]
    plain = [sql for sql in PLAIN if server == "postgresql" or "for share" not in sql]
    shared = chance.sample(plain, 3)
    same = chance.choice((None, None, *LEVELS[server]))
    mixed = chance.random() < 0.3
    names = ["north", "south", "east"][: chance.choice((2, 2, 2, 3))]
    parts = {}
    for name in names:
        most = (2, 3) if len(names) == 2 else (1, 2)
        count = chance.choice(most) if name != "east" else 1
        statements = []
        for _ in range(count):
            source = (
                special
                if special and chance.random() < 0.55
                else (shared if chance.random() < 0.7 else plain)
            )
            values = {
                "k": chance.choice((1, 1, 2, 3)),
                "n": chance.choice((4, 4, 5)),
                "v": chance.randint(0, 4),
                "w": chance.choice("abcc"),
            }
            text = chance.choice(source)
            for key, value in values.items():
                text = text.replace("{" + key + "}", str(value))
            statements.append(text)
        level = chance.choice(LEVELS[server]) if mixed else same
        parts[name] = Part(tuple(statements), level, chance.choice(("commit",) * 7 + ("rollback",)))
    holds = dict(chance.sample(sorted(RULES.items()), chance.choice((0, 1, 1))))
    return Case(COMMON + " " + " ".join(pieces[name][0] for name in chosen), parts, holds)


#: Rows that a transaction locks first; what it does with them, and what others do meanwhile.
FIRST = (
    "select moved from berth where id = {k} for update", "select id, moved from berth where id in (1, {k}) order by id for update",
    "select moved from berth where id = {n} for update", "update berth set moved = {v} where id = {k}", "update berth set moved = moved + 1 where id in (2, {k})",
    "select id, moved from berth force index (primary) where id in (2, {k}) order by id for update", "select moved from berth where id = {k} and moved = {v} for update", "select moved from berth where id = {k} for share",
)  # fmt: skip
THEN = (
    "update berth set moved = moved + 1 where id = {k}", "update berth set moved = moved + 1 where id = {k}", "update berth set moved = {v} where id = {k}", "update berth set vessel = {v} where id = {k}",
    "update berth set moved = {v} where id = {k} and moved < 2", "update berth set moved = 4 where moved = {v}", "select sum(moved) from berth", "select moved from berth where id = {k}",
    "delete from berth where id = {k}", "insert into berth values ({n}, {v}, 1)", "select moved from berth where id = {k} for share", "update berth set id = {n} where id = {k}",
    "select id from berth where vessel = {v} for update", "update crane set moved = (select moved from berth where id = {k}) where id = 1", "select moved from berth where id = {k} for update skip locked",
    "select moved from berth where id = {k} for update nowait", "update berth set moved = moved + 1 where id in (1, {k})", "savepoint here", "rollback to savepoint here", "insert into box values ({n}, {k})",
)  # fmt: skip
BESIDE = (
    "",
    "",
    "create index by_vessel on berth (vessel);",
    "create index by_moved on berth (moved);",
    "create table box (id int primary key, berth int, foreign key (berth) references berth (id));",
)


def locking_case(server: str, seed: int) -> Case:
    """The scenario of this number in which transactions lock rows and then change them."""
    chance = random.Random(f"{server} locks {seed}")
    beside = chance.choice(BESIDE)
    then = [sql for sql in THEN if "box" not in sql or "box" in beside]
    first = [sql for sql in FIRST if "force" not in sql or server != "postgresql"]
    names = ["north", "south", "east"][: chance.choice((2, 2, 3))]
    same = chance.choice(LEVELS[server])
    parts = {}
    for name in names:
        most = chance.choice((1, 2)) if len(names) == 2 else 1
        k = chance.choice((1, 1, 2))
        texts = [chance.choice(first), *(chance.choice(then) for _ in range(most))]
        if "rollback to savepoint here" in texts[1:]:
            texts = ["savepoint here", *texts]
        for place, text in enumerate(texts):
            row = k if chance.random() < 0.7 else chance.choice((1, 2, 3))
            values = {"k": row, "n": chance.choice((4, 5)), "v": chance.randint(0, 3)}
            for key, value in values.items():
                text = text.replace("{" + key + "}", str(value))
            texts[place] = text
        parts[name] = Part(tuple(texts), same, chance.choice(("commit",) * 5 + ("rollback",)))
    holds = dict(chance.sample(sorted(RULES.items()), chance.choice((0, 1))))
    return Case(f"{COMMON} {beside}", parts, holds)


#: Statements that wait for one row and then for another, or for what others wait for, too.
QUEUES = (
    "update berth set moved = moved + 1 where id in ({k}, {m})", "update berth set moved = moved * 2 + 1 where id between {k} and 3", "update berth set moved = moved + 1 where id in (1, 2, 3)",
    "update berth set moved = {v} where id = {k}", "update berth set moved = moved * 2 + 1 where id = {k}", "update berth set moved = moved + {v} where id = {k}",
    "update berth set moved = (select moved from crane where id = 1) where id = {k}", "update berth set moved = moved + (select moved from crane where id = 1) where id in ({k}, {m})",
    "update berth set moved = moved + 1 where vessel = 1", "update crane set moved = moved * 2 + 1 where id = 1", "update crane set moved = (select sum(moved) from berth) where id = 1",
    "select moved from berth where id = {k} for update", "select sum(moved) from (select moved from berth where id in ({k}, {m}) order by id desc for update) b",
    "delete from berth where id = {k}", "insert into berth values ({n}, {v}, 1)", "update berth set id = {n} where id = {k}", "select sum(moved) from berth", "select moved from crane where id = 1 for share",
    "insert into crane select {n}, moved from berth where id = {k}", "delete from berth where moved = {v}", "update berth set moved = moved + 1 where moved = {v}",
)  # fmt: skip
QUEUE_LEVELS = {
    "postgresql": (None, None, None, "repeatable read", "serializable"),
    "mariadb": (None, "read committed", "read committed"),
    "mysql": (None, "read committed", "read committed"),
}
QUEUE_RULES = {
    "one is even": "select coalesce(max(moved), 0) % 2 = 0 from berth where id = 1",
    "two is small": "select coalesce(max(moved), 0) < 4 from berth where id = 2",
    "the crane is even": "select coalesce(max(moved), 0) % 2 = 0 from crane where id = 1",
    "few berths": "select count(*) < 4 from berth",
}


def queue_case(server: str, seed: int) -> Case:
    """The scenario of this number in which several wait at a time, and a statement waits more than
    once.
    """
    chance = random.Random(f"{server} queues {seed}")
    pool = [sql for sql in QUEUES if server == "postgresql" or "for share" not in sql]
    pool = chance.sample(pool, 5)
    level = chance.choice(QUEUE_LEVELS[server])
    parts = {}
    longer = chance.choice(("north", "south", "east", ""))
    for name in ("north", "south", "east"):
        texts = []
        for _ in range(2 if name == longer else 1):
            text = chance.choice(pool)
            values = {
                "k": chance.choice((1, 1, 2)),
                "m": chance.choice((2, 3)),
                "n": 4,
                "v": chance.randint(0, 3),
            }
            for key, value in values.items():
                text = text.replace("{" + key + "}", str(value))
            texts.append(text)
        parts[name] = Part(tuple(texts), level, chance.choice(("commit",) * 5 + ("rollback",)))
    return Case(COMMON, parts, QUEUE_RULES)


#: What a transaction rests on besides the rows that it names: numbers, the order of rows, what a
#: row holds.
STATE = (
    "create table job (id int primary key, version smallint, taken text, check (version < 4)); insert into job values (1, 1, null), (2, 1, null), (3, 2, 'x');"
    "create table log (kg int, vessel int); insert into log values (5, 1), (6, 2);"
)
NUMBERED = {
    "postgresql": "create table ticket (id serial primary key, vessel int unique); create sequence tag cache 3;",
    "mariadb": "create table ticket (id int auto_increment primary key, vessel int unique); create sequence tag;",
    "mysql": "create table ticket (id int auto_increment primary key, vessel int unique);",
}
_LOCK_ROW = (
    "select version from job where id = {k} for update", "update job set version = version + 1 where id = {k}", "update job set taken = 'n' where id = {k}",
    "select taken from job where id = {k} for update",
)  # fmt: skip
#: By what is tested: the statements that begin, and those that come then.
THEMES = {
    "conditions": (_LOCK_ROW, (
        "update job set taken = 'n' where id = {k} and version = {v}", "update job set version = version + 1 where id = {k} and taken is null", "update job set version = version * 2 where id = {k}",
        "update job set version = 6 / (version - 2) where id = {k}", "delete from job where id = {k} and version > 1", "select id from job where id in (1, 2) order by id limit 1 for update",
        "select id from job where taken is null order by id limit 1 for update skip locked", "select id from job where id = {k} and version = {v} for update", "select id from job where id = {k} for update nowait",
        "delete from job where id = {k}", "update job set taken = 'n' where id in (1, 2) and version = {v}", "insert into job values ({n}, {v}, null)", "update job set taken = 'n' where id = {n}", *_LOCK_ROW, *_LOCK_ROW,
        *["update berth set moved = {v} where id = {k}", "update crane set moved = {v} where id = 1"] * 3,
    )),
    "numbers": (("insert into ticket (vessel) values ({n})", "update berth set moved = 1 where id = {k}"), (
        "insert into ticket (vessel) values ({n})", "insert into ticket (vessel) values ({k})", "update ticket set vessel = 9 where id = {k}", "delete from ticket where id = {k}", "insert into ticket values ({k}, {n})",
        "select vessel from ticket where id = {k} for update", "update berth set moved = moved + 1 where id = {k}", "select count(*) from ticket where id = {k}",
    )),
    "order of rows": (("insert into log values ({v}, {k})", "update log set kg = kg + 1 where vessel = {k}", "select kg from log where vessel = {k} for update", "update job set taken = 'n' where id = {k}"), (
        "insert into log values ({v}, {k})", "update log set kg = kg + 1", "update log set kg = {v} where vessel = {k}", "delete from log where kg = {v}", "select kg from log limit 1 for update", "select kg from log for update",
        "update log set kg = kg + 1 where vessel = {k}", "update job set taken = 'n' where id = {k}", "select kg from log where kg > {v} for update",
    )),
}  # fmt: skip
STATE_OWN = {
    "postgresql": {"numbers": ("insert into log values (nextval('tag'), 9)", "select nextval('tag')", "update ticket set id = default where vessel = {k}"), "order of rows": ("select string_agg(kg::text, ',') from log",)},
    "mariadb": {"numbers": ("insert into log values (nextval(tag), 9)", "select nextval(tag)"), "order of rows": ("select group_concat(kg) from log",)},
    "mysql": {"order of rows": ("select group_concat(kg) from log",)},
}  # fmt: skip
STATE_RULES = {
    "the first ticket is for 1 or 4": "select count(*) = 0 from ticket where id = 1 and vessel not in (1, 4)",
    "low versions": "select coalesce(max(version), 0) < 3 from job",
    "little logged": "select sum(kg) < 14 from log",
}


def state_case(server: str, seed: int) -> Case:
    """The scenario of this number, in which more counts than the rows that are named."""
    chance = random.Random(f"{server} state {seed}")
    theme = chance.choice(sorted(THEMES))
    first, then = THEMES[theme]
    then = [*then, *STATE_OWN[server].get(theme, ())]
    names = ["north", "south", "east"][: chance.choice((2, 2, 3))]
    level = chance.choice(LEVELS[server])
    parts = {}
    for name in names:
        most = chance.choice((1, 2, 3)) if len(names) == 2 else chance.choice((0, 1, 2))
        texts = [chance.choice(first), *(chance.choice(then) for _ in range(most))]
        for place, text in enumerate(texts):
            values = {
                "k": chance.choice((1, 2)),
                "n": chance.choice((4, 5)),
                "v": chance.randint(1, 2),
            }
            for key, value in values.items():
                text = text.replace("{" + key + "}", str(value))
            texts[place] = text
        parts[name] = Part(tuple(texts), level, chance.choice(("commit",) * 7 + ("rollback",)))
    rules = dict(chance.sample(sorted(STATE_RULES.items()), 1))
    made = {"ticket": 0, "log": 0} if theme == "numbers" else {"ticket": 0}
    return Case(f"{COMMON} {STATE} {NUMBERED[server]}", parts, rules, made)


#: What clients do besides: one of these each, some together.
HABITS = ("goes on", "goes on", "autocommit", "autocommit", "after", "after", "close", "kill", "")


def client_case(server: str, seed: int) -> Case:
    """The scenario of this number, in which clients go on after errors, commit each statement, share
    a connection, close it, or lose their session.
    """
    chance = random.Random(f"{server} clients {seed}")
    pool = [
        sql for sql in (*QUEUES, *_CLASHING) if server == "postgresql" or "for share" not in sql
    ]
    pool = chance.sample(pool, 5)
    level = chance.choice((None, None, None, *QUEUE_LEVELS[server]))
    names = ["north", "south", "east"][: chance.choice((2, 3, 3))]
    parts: dict[str, Part] = {}
    for name in names:
        texts = []
        for _ in range(chance.choice((1, 2)) if len(names) == 3 else chance.choice((2, 3))):
            text = chance.choice(pool)
            values = {"k": chance.choice((1, 1, 2)), "m": chance.choice((2, 3)), "n": 4, "v": chance.randint(0, 3)}  # fmt: skip
            for key, value in values.items():
                text = text.replace("{" + key + "}", str(value))
            texts.append(text)
        part = Part(tuple(texts), level, chance.choice(("commit",) * 6 + ("rollback",)))
        habit = chance.choice(HABITS)
        others = [one for one in names if one != name]
        if habit == "goes on":
            part = replace(part, goes_on=True)
        elif habit == "autocommit":
            part = replace(part, autocommit=True, ends="commit", goes_on=chance.random() < 0.4)
        elif habit == "after" and parts and parts[names[0]].ends != "close":
            on_it = [one for one in parts if connection_of(parts, one) == names[0]]
            part = replace(part, after=on_it[-1])
        elif habit == "close":
            part = replace(part, ends="close")
        elif habit == "kill":
            part = replace(part, statements=(f"kill {chance.choice(others)}", *texts[:1]))
        parts[name] = part
    if parts.get("north", Part(())).ends == "close":  # who comes behind it could never begin
        parts = {name: replace(part, after=None) for name, part in parts.items()}
    return Case(
        COMMON, parts, dict(chance.sample(sorted(QUEUE_RULES.items()), chance.choice((0, 1))))
    )


#: Statements that fail by themselves.
_CLASHING = ("insert into berth values ({k}, {v}, 1)", "insert into crane values ({k}, {v})", "update berth set id = {m} where id = {k}")  # fmt: skip

MAKES = {
    "pieces": case,
    "locks": locking_case,
    "queues": queue_case,
    "state": state_case,
    "clients": client_case,
}
