"""The core's own rules: wait graphs, schedules, statements, conflict tables, remedies."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from catenum.core.compare.measure import fewer, rate, ratio
from catenum.core.diagnose.holders import touches
from catenum.core.diagnose.indexes import propose_index
from catenum.core.errors import InputError
from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import TableKeys
from catenum.core.record.waits import Edge, Resource, WaitGraph
from catenum.core.scenario.filler import rows_of
from catenum.core.scenario.model import Fill, Remedy, Scenario
from catenum.core.scenario.remedies import apply_remedy, describe
from catenum.core.servers import rules_of
from catenum.core.servers.innodb import innodb_locks
from catenum.core.servers.postgresql import ROW, TABLE
from catenum.core.space.escalated import escalated
from catenum.core.space.schedule import complete, mirror_images
from catenum.core.space.tally import WaitPairEntry
from catenum.core.sql import scripts
from catenum.core.text import harmless, shortened

NAMES = ["barge", "crane", "pilot", "quay", "tug", "yard"]
ROWLOCK = Resource(kind="row", text="berth(id=7)", table="berth", key=(("id", "7"),))


def graph(*pairs: tuple[str, str]) -> WaitGraph:
    return WaitGraph(
        Edge(waiter=a, holder=b, resource=ROWLOCK, wanted=NO_MODE, held=NO_MODE) for a, b in pairs
    )


edges = st.lists(
    st.tuples(st.sampled_from(NAMES), st.sampled_from(NAMES)).filter(lambda p: p[0] != p[1]),
    max_size=14,
)


def reachable(pairs: list[tuple[str, str]], start: str) -> set[str]:
    found: set[str] = set()
    todo = [b for a, b in pairs if a == start]
    while todo:
        name = todo.pop()
        if name not in found:
            found.add(name)
            todo += [b for a, b in pairs if a == name]
    return found


@given(edges)
def test_a_cycle_is_found_exactly_where_somebody_waits_for_himself_in_the_end(pairs):
    cycles = graph(*pairs).cycles()
    in_a_cycle = {name for name in NAMES if name in reachable(pairs, name)}
    assert bool(cycles) == bool(in_a_cycle)
    for cycle in cycles:
        assert {(e.waiter, e.holder) for e in cycle} <= set(pairs)
        assert [e.holder for e in cycle] == [e.waiter for e in (*cycle[1:], cycle[0])]
        assert len({e.waiter for e in cycle}) == len(cycle)


@given(edges)
def test_a_tree_holds_everybody_who_waits_under_its_head_once(pairs):
    found = graph(*pairs)
    for head in found.heads():
        below = [branch.name for branch in found.tree(head).walk()]
        assert sorted(below) == sorted(found.held_up_by(head))
        assert sorted(below) == sorted(n for n in NAMES if head in reachable(pairs, n))


def test_a_queue_reads_as_a_chain():
    """Third in the queue waits for the holder and for the two ahead: it hangs under the second."""
    tree = graph(("a", "h"), ("b", "h"), ("b", "a"), ("c", "h"), ("c", "a"), ("c", "b")).tree("h")
    assert [b.name for b in tree.walk()] == ["a", "b", "c"]
    assert tree.depth == 3


def test_heads_come_in_the_order_of_whom_they_hold_up():
    assert graph(("a", "x"), ("b", "y"), ("c", "b")).heads() == ["y", "x"]


@given(st.dictionaries(st.sampled_from(NAMES), st.integers(1, 4), min_size=1), st.data())
def test_a_completed_order_makes_every_move_once_and_keeps_its_beginning(moves, data):
    order = data.draw(st.lists(st.sampled_from(sorted(moves)), max_size=8))
    whole = complete(order, moves)
    assert {name: whole.count(name) for name in moves} == moves
    if all(order.count(name) <= moves[name] for name in moves):
        assert list(whole[: len(order)]) == order


def test_turns_follow_an_order_that_ends_early():
    assert complete(["late"], {"early": 2, "late": 2}) == ("late", "late", "early", "early")
    assert complete([], {"early": 2, "late": 3}) == ("early", "late", "early", "late", "late")


@given(st.lists(st.sampled_from("abc"), min_size=1, max_size=6))
def test_mirror_images_exchange_names_and_keep_the_shape(order):
    images = mirror_images(order, ["a", "b", "c"])
    assert images[0] == tuple(order)
    assert len(set(images)) == len(images) <= 6
    shape = [order.index(name) for name in order]
    assert all([image.index(name) for name in image] == shape for image in images)


PG = rules_of("postgresql")
STATEMENTS = [
    # statement, table, verb, row lock, table lock (PostgreSQL documentation, 13.3)
    ("select * from berth where id = 7", "read", None, "AccessShareLock"),
    ("select * from berth for share", "lock", "FOR SHARE", "RowShareLock"),
    ("select * from berth b for no key update of b", "lock", "FOR NO KEY UPDATE", "RowShareLock"),
    ("select * from berth for key share", "lock", "FOR KEY SHARE", "RowShareLock"),
    (
        "update berth set vessel = 'Oriel' where id = 7",
        "update",
        "FOR NO KEY UPDATE",
        "RowExclusiveLock",
    ),
    ("update berth set id = 8 where id = 7", "update", "FOR UPDATE", "RowExclusiveLock"),
    ("delete from berth where id = 7", "delete", "FOR UPDATE", "RowExclusiveLock"),
    ("insert into berth (id) values (7)", "insert", None, "RowExclusiveLock"),
    ("alter table berth add column depth int", "schema", None, "AccessExclusiveLock"),
    ("create index i on berth (vessel)", "schema", None, "ShareLock"),
    ("create index concurrently i on berth (vessel)", "schema", None, "ShareUpdateExclusiveLock"),
    ("lock table berth in share mode", "schema", None, "ShareLock"),
    ("truncate berth", "schema", None, "AccessExclusiveLock"),
]


@pytest.mark.parametrize(("sql", "verb", "row", "table"), STATEMENTS)
def test_a_statement_s_locks_follow_the_documentation(sql, verb, row, table):
    (access,) = PG.sql.footprint(sql).on("berth")
    mode = PG.locks.row_mode(access, frozenset({"id"}))
    assert (access.verb, mode and str(mode), str(PG.locks.table_mode(access))) == (verb, row, table)


def test_a_statement_with_parts_touches_all_its_tables():
    sql = "update slot set box = null from manifest m where m.id = 12 and slot.id = (select min(id) from pilot)"
    assert {(a.table, a.verb) for a in PG.sql.footprint(sql).accesses} == {
        ("slot", "update"),
        ("manifest", "read"),
        ("pilot", "read"),
    }


def test_what_cannot_be_parsed_is_told_and_a_script_is_read_statement_by_statement():
    assert PG.sql.footprint("upd8 berth ((").parsed is False
    assert [p.text for p in PG.sql.pieces("insert into a values (';'); delete from s.b")] == [
        "insert into a values (';')",
        "delete from s.b",
    ]
    assert PG.sql.footprint("savepoint x").control is None
    assert PG.sql.footprint("rollback to savepoint x").control is None
    assert (
        PG.sql.footprint("start transaction").control
        == PG.sql.footprint("begin").control
        == "begin"
    )


@pytest.mark.parametrize(
    ("sql", "can"),
    [
        ("update berth set vessel = null where id = 7", True),
        ("update berth set vessel = null where id = 3", False),
        ("update berth set vessel = null where 3 = id and vessel = 'x'", False),
        ("update berth set vessel = null where id = 3 or true", True),
        ("update berth set vessel = null where id > 3", True),
    ],
)
def test_a_statement_can_concern_a_row_unless_a_constant_says_otherwise(sql, can):
    (access,) = PG.sql.footprint(sql).accesses
    assert touches(access, ROWLOCK) is can


def test_conflict_tables_hold_what_the_documentation_prints():
    """Counts of the crosses in tables 13.2 and 13.3, and a few of their cells."""
    for table, crosses in ((ROW, 10), (TABLE, 38)):
        assert sum(table.conflict(a, b) for a in table.modes for b in table.modes) == crosses
    assert ROW.conflict(Mode.read("FOR SHARE"), Mode.read("FOR NO KEY UPDATE"))
    assert not ROW.conflict(Mode.read("FOR KEY SHARE"), Mode.read("FOR NO KEY UPDATE"))
    assert not TABLE.conflict(Mode.read("ShareLock"), Mode.read("ShareLock"))
    assert TABLE.conflict(Mode.read("AccessShareLock"), Mode.read("AccessExclusiveLock"))
    assert PG.locks.conflict(Mode.read("FOR SHARE"), Mode.read("AccessShareLock")) is None
    with pytest.raises(InputError, match="unknown server"):
        rules_of("unknown")


def test_a_remedy_s_parts_are_made_together():
    scenario = Scenario.model_validate(
        {
            "scenario": "s",
            "data": "",
            "transactions": {"a": {"statements": ["one", "two"]}, "b": {"statements": ["three"]}},
        }
    )
    remedy = Remedy.model_validate(
        {
            "rewrite": {"a": {1: "uno"}},
            "reorder": {"a": [2, 1]},
            "isolation": "serializable",
            "timeout": {"b": "2s"},
            "index": "create index i on t (x)",
        }
    )
    changed, ddl = apply_remedy(scenario, remedy)
    assert [s.sql for s in changed.transactions["a"].statements] == ["two", "uno"]
    assert (changed.transactions["a"].isolation, changed.transactions["b"].timeout) == (
        "serializable",
        2000,
    )
    assert ddl == ("create index i on t (x)",)
    assert len(describe(remedy)) == 5


@pytest.mark.parametrize(
    ("holder", "resource", "sql", "found"),
    [
        ("night", "slot", "update slot set swept = 1", {("night", "slot")}),
        ("night", "slot(at 1,7)", "update slot set swept = 1", set()),
        ("night", "slot", "lock table slot in share mode", set()),
        ("session 812", "slot", "update slot set swept = 1", set()),
    ],
)
def test_a_wait_for_a_whole_table_is_an_escalation_where_nobody_asks_for_it(
    holder, resource, sql, found
):
    one = {"statements": [sql]}
    scenario = Scenario.model_validate(
        {"scenario": "s", "data": "", "transactions": {"night": one}}
    )
    pair = WaitPairEntry(
        waiter="driver", statement=1, holder=holder, holder_statement=None, resource=resource,
        wanted="IX",
    )  # fmt: skip
    assert escalated([pair], scenario, rules_of("derby")) == found
    assert escalated([pair], scenario, rules_of("postgresql")) == set()


def test_portions_are_transactions_of_one_connection_and_the_rest_goes_with_the_last():
    scenario = Scenario.model_validate(
        {
            "scenario": "s",
            "data": "",
            "transactions": {
                "night": {"statements": ["one", "all", "three"], "ends": "rollback"},
                "night-2": {"statements": ["x"]},
            },
        }
    )
    remedy = Remedy.model_validate({"portions": {"night": {"2": ["low", "middle", "high"]}}})
    changed, _ = apply_remedy(scenario, remedy)
    assert [
        ([s.sql for s in one.statements], one.ends, one.connection)
        for name, one in changed.transactions.items()
        if name != "night-2"
    ] == [
        (["one", "low"], "commit", None),
        (["middle"], "commit", "night"),
        (["high", "three"], "rollback", "night"),
    ]
    assert list(changed.transactions) == ["night", "night-3", "night-4", "night-2"]
    assert describe(remedy) == [
        "night makes statement 2 in 3 portions, and commits behind each", "  low", "  middle",
        "  high",
    ]  # fmt: skip


@given(st.text(min_size=0, max_size=200), st.integers(12, 60))
def test_a_shortened_statement_never_grows(text, limit):
    assert len(shortened(text, limit)) <= limit


@given(st.integers(0, 50), st.integers(1, 5000))
def test_a_rate_lies_in_its_interval_and_none_has_a_bound(events, iterations):
    events = min(events, iterations)
    found = rate(events, iterations)
    assert found.low - 1e-6 <= found.rate <= found.high + 1e-6
    assert ("none in" in str(found)) == (events == 0)


def test_the_bound_of_none_is_the_rule_of_three():
    assert rate(0, 10_000).high == pytest.approx(3.0, rel=0.01)
    assert fewer([(40, 10_000)] * 8, [(5, 10_000)] * 8)
    assert not fewer([(6, 10_000), (4, 10_000)] * 4, [(5, 10_000)] * 8)
    assert not fewer([(40, 10_000)] * 5, [(5, 10_000)] * 5)  # of so few pairs no order is rare
    assert not fewer([(0, 0)] * 8, [(5, 10_000)] * 8)
    assert ratio([2.0, 2.2, 1.9, 2.1], [1.0, 1.0, 1.0, 1.0]).low > 1.5


def test_what_changes_nothing_is_rarely_told_from_the_baseline_although_rates_vary_from_turn_to_turn():
    """Both share each turn's rate, which varies fourfold; each count varies by chance besides."""
    chance = np.random.default_rng(11)
    reported = 0
    for _ in range(200):
        rates = chance.gamma(2.0, 0.01, 12)
        one, two = (
            [(int(chance.binomial(800, min(1.0, r))), 800) for r in rates] for _ in range(2)
        )
        reported += fewer(one, two) or fewer(two, one)
    assert reported <= 16  # 10 expected at 5 %; more than 16 in 3 of 100
    halved = [(a // 2, n) for a, n in one]
    assert fewer(one, halved)


def test_filler_rows_are_the_same_for_the_same_seed():
    reported = {
        "rows": 40,
        "columns": {
            "id": {"sequence": 5}, "yard": {"choice": ["North", None]}, "weight": {"random": [2, 30]}, "box": {"text": 4},
            "kind": {"constant": 7},
        },
    }  # fmt: skip
    rows = list(rows_of(Fill.model_validate(reported)))
    assert rows == list(rows_of(Fill.model_validate(reported)))
    assert rows != list(rows_of(Fill.model_validate({**reported, "seed": 2})))
    assert [row[0] for row in rows] == list(range(5, 45))
    assert {row[1] for row in rows} == {"North", None}
    assert all(2 <= row[2] <= 30 and len(row[3]) == 4 and row[4] == 7 for row in rows)


@pytest.mark.parametrize(
    ("script", "count"),
    [
        ("select 1; select ';' ; -- done;\n", 2),
        ("create procedure p() begin select 1; if true then select 2; end if; end; select 3", 2),
        (
            "create trigger t before insert on b for each row begin set new.x = case 1 when 1 then 2 end; end",
            1,
        ),
        ("", 0),
    ],
)
def test_scripts_are_split_at_their_own_semicolons_only(script, count):
    pieces = rules_of("mariadb").sql.split(script)
    assert len(pieces) == count
    assert all(script[offset:].startswith(text) for offset, text in pieces)


@pytest.mark.parametrize(
    ("sql", "ddl"),
    [
        ("select box from slot where yard = 'N' for update", "create index slot_yard on slot (yard)"),  # the row is locked anyway
        ("select box from slot where yard = 'N' lock in share mode", "create index slot_yard_box on slot (yard, box)"),
        ("select box from slot where weight > 3 and yard = 'N'", "create index slot_yard_weight_box on slot (yard, weight, box)"),
        ("update slot set box = null where yard = 'N'", "create index slot_yard on slot (yard)"),
        ("select box from slot where id = 3", None),
        ("select box from slot", None),
        ("select * from slot where block = 3", None),
        ("select box from slot where block = 3", "create index slot_block_box on slot (block, box)"),
        ("update slot s set s.box = 1 where s.note = 'x' and s.tier > 3", "create index slot_note_tier on slot (note, tier)"),
        ("select m.id from slot s join manifest m on m.id = s.manifest where m.name = 'x'", "create index slot_manifest on slot (manifest)"),
        ("select s.box from slot s join manifest m on m.slot = s.id where m.name = 'x' and name = 'y'", None),
        ("update slot set box = 1 where note in (select name from manifest where label = 3)", "create index slot_note on slot (note)"),
        ("update slot set box = 1 where lower(note) = 'x' and cast(tier as char) = '4' and left_of = right_of", None),
        ("update slot set box = 1 where note = 'a' or tier = 4", None),
        ("update slot set box = 1 where `order` = 3 and `No` = 4", "create index `slot_order_No` on slot (`order`, `No`)"),
        ("update slot set box = 1 where " + " and ".join(f"column_with_a_name_{n} = 1" for n in "abcd"), "create index slot_column_with_a_name_a_column_with_a_name_b_column_with_a on slot (column_with_a_name_a, column_with_a_name_b, column_with_a_name_c, column_with_a_name_d)"),
    ],
)  # fmt: skip
def test_the_proposed_index_comes_from_the_statement(sql, ddl):
    keys = TableKeys(primary=("id",), indexes={"slot_block": ("block",)})
    assert propose_index(sql, "slot", rules_of("mariadb"), keys) == ddl


def test_an_index_for_the_end_of_a_key_is_proposed_and_its_name_is_not_taken():
    keys = TableKeys(primary=("yard", "tier", "place"), indexes={"slot_place": ("place_of",)})
    rules = rules_of("postgresql")
    assert (
        propose_index("delete from slot where tier = 1 and yard = 2", "slot", rules, keys) is None
    )
    reported = propose_index("delete from slot where place = 4", "slot", rules, keys)
    assert reported == "create index slot_place_2 on slot (place)"


def test_gap_locks_and_inserts_conflict_one_way_only():
    _, records = innodb_locks("its documentation")
    assert records.conflict(Mode.read("X insert intention"), Mode.read("X gap"))
    assert not records.conflict(Mode.read("X gap"), Mode.read("X insert intention"))
    assert not records.conflict(Mode.read("X gap"), Mode.read("X gap"))
    assert records.conflict(Mode.read("X record"), Mode.read("S next-key"))
    assert not records.conflict(Mode.read("S record"), Mode.read("S next-key"))


#: Parts of statements, among them those at which a quick way to cut a script could go wrong.
PARTS = re.findall(
    r"\S+|\n",
    "select insert update delete from where berth b.moved < = * - , ( ) ; ; in values null and set 5 17 3.5 .5 1e5 5. "
    "1_000 1x 0x1f x1 1.a a.1 :x @a $1 ::int kill -- /* */ begin end case $$ \" ` # \\ 'a' 'b.c' 'it''s' '' 'a;b' "
    "'a--b' '''' x'1f' e'a' N'a' \n",
)


@given(
    st.lists(st.tuples(st.sampled_from(PARTS), st.sampled_from(("", " ", "  "))), max_size=14),
    st.sampled_from(("postgres", "mysql")),
)
def test_a_script_cut_without_tokens_is_cut_as_with_them(parts, dialect):
    script = "".join(part + gap for part, gap in [("select", " "), *parts])
    assert scripts.pieces_of(script, dialect) == scripts.tokenized_pieces(script, dialect)


#: Ways to write a value, with the secret in the place of ``{}``.
HIDDEN = {
    "postgresql": (
        "select * from crate where label = '{}'", "call note('{}', 7)", "execute find ('{}')", "select 1 -- {}\n", "/* a /* {} */ b */ select 1",
        "do $$ begin perform '{}'; end $$", "do $x$ {} $$ {} $x$", "select E'it\\'s {}'", "select U&'{}'", "select 'cut {}", "insert into crate values (1, '{}",
        "select 'a\\' , '{}'", "select $${}", "/* {}", "select pg_advisory_lock(hashtext('{}'))", "merge into crate using x on label = '{}' when matched then delete",
    ),
    "mariadb": (
        "select * from crate where label = \"{}\"", "call note('{}')", "select get_lock('{}', 5)", "select 1 # {}\n", "/*! select '{}' */", "execute immediate '{}'",
        "select _latin1 '{}'", "select 'it\\'s {}'", "select 'a\\' , '{}'", "update crate set label = 'cut {}", "do release_lock(\"{}\")", "handler crate read x = ('{}')",
    ),
}  # fmt: skip


@given(
    st.data(),
    st.sampled_from(sorted(HIDDEN)),
    st.text('abcXYZ \u00e9;"`', min_size=1).map(lambda s: f"SECRET{s}".rstrip()),
)
def test_no_value_survives_masking_and_names_do(data, server, secret):
    rules = rules_of(server)
    secret = (
        secret.replace('"', "").replace("`", "").replace(";", "")
        if server == "mariadb"
        else secret.replace("'", "")
    )
    text = data.draw(st.sampled_from(HIDDEN[server])).replace("{}", secret)
    masked = rules.sql.masked(text)
    assert "SECRET" not in masked
    assert rules.sql.masked(masked) == masked
    assert "crate" in masked or "crate" not in text.partition("'")[0].partition('"')[0]
    cut = text[: data.draw(st.integers(0, len(text)))]
    assert "SECRET" not in rules.sql.masked(cut)


REPORTS = {
    "postgresql": (
        "DETAIL:  Process 4711 waits for ShareLock on transaction 9812; blocked by process 4712.\n"
        "\tProcess 4711: update crate set label = 'SECRET'\n\twhere id = 77123\n\tProcess 4712: delete from crate where id = 77123\n"
        "CONTEXT:  while updating tuple (0,1) in relation \"crate\"\n\tSQL statement \"update crate set label = 'SECRET' where id = 77123\"",
        ("4711", "4712", "9812", "(0,1)"),
    ),
    "mariadb": (
        "*** (1) TRANSACTION:\nTRANSACTION 9812, ACTIVE 3 sec starting index read\nMariaDB thread id 4711, OS thread handle 1234, query id 55 localhost root Updating\n"
        "update crate set label = 'SECRET'\nwhere id = 77123\n*** WAITING FOR THIS LOCK TO BE GRANTED:\n"
        "RECORD LOCKS space id 5 page no 3 n bits 8 index PRIMARY of table `port`.`crate` trx id 9812 lock_mode X locks rec but not gap waiting\n"
        "Record lock, heap no 2 PHYSICAL RECORD: n_fields 4; compact format; info bits 0\n 0: len 4; hex 80012d43; asc   -C;;\n 3: len 6; hex 534543524554; asc SECRET;;\n",
        ("4711", "9812", "heap no 2", "page no 3"),
    ),
}  # fmt: skip


@pytest.mark.parametrize("server", REPORTS)
def test_a_report_keeps_its_ids_and_loses_its_values(server):
    report, ids = REPORTS[server]
    masked = rules_of(server).sql.masked_report(report)
    assert all(word not in masked for word in ("SECRET", "77123", "534543524554", "80012d43"))
    assert all(word in masked for word in ids)


@pytest.mark.parametrize(
    "code",
    [0x00, 0x07, 0x1B, 0x1F, 0x7F, 0x80, 0x9F, 0x200E, 0x200F, 0x202A, 0x202E, 0x2066, 0x2069],
)
def test_no_sign_that_a_terminal_acts_on_is_printed(code):
    shown = harmless(f"berth {chr(code)} 3")
    assert (chr(code) in shown, len(shown)) == (False, 9)


def test_what_is_only_unusual_is_printed_as_it_is():
    text = "Königsberg\tQuay 7\n\u2010 \u2013 \u2065\u206a"
    assert harmless(text) == text


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_the_documented_settings_are_those_that_a_scenario_may_give(server):
    text = (Path(__file__).parents[1] / "docs/scenario.md").read_text()
    start = text.index("`deadlock_timeout`, `lock_timeout`")
    own, _, innodb = text[start : text.index("\nWith a", start)].partition("for MariaDB and MySQL")
    documented = re.findall(r"`([a-z_]+[a-z])`", own if server == "postgresql" else innodb)
    assert len(documented) > 5
    if server == "mysql":
        documented.remove("innodb_snapshot_isolation")  # of MariaDB alone
    assert [name for name in documented if rules_of(server).setting(name) is None] == []


def test_a_remedy_s_retry_is_described_for_one_and_for_all():
    retry = {"times": 4, "on": ["deadlock"]}
    for change, who in ((retry, "every transaction"), ({"early": retry}, "early")):
        (line,) = describe(Remedy.model_validate({"retry": change}, strict=False))
        assert line == f"{who} tries again up to 4 times on deadlock"
