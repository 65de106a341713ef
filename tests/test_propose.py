"""Changes that are derived, tried and ranked: on the samples, against what they say by hand, and on
made-up cases.
"""

from __future__ import annotations

import json

import pytest

from catenum import samples
from catenum.core.compare.verdict import Figures, Verdict
from catenum.core.errors import InputError
from catenum.core.propose.candidate import Candidate, Evidence, merged, remedy
from catenum.core.propose.changes import plain, with_remedies
from catenum.core.propose.commuting import orders
from catenum.core.propose.proposals import Proposals
from catenum.core.propose.ranking import Proposal, ranked, why_first
from catenum.core.propose.reading import Reading, term
from catenum.core.record.recording import TableKeys
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import NATIVE, rules_of
from catenum.engines.postgresql.engine import connect
from catenum.lab.explore.jobs import Here
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.propose.propose import Proposer
from catenum.lab.run.play import PlayOptions
from conftest import needs

#: What must come first on a server: the kind of change. By hand each of these samples has a cure,
#: or it is new.
FIRST = {
    "postgresql": {
        "berth-swap": "order", "tug-upgrade": "condition into write", "crane-standby": "stronger lock",
        "crane-key": "shorter", "call-cancel": "condition into write", "box-number": "stronger lock",
        "manifest-total": "stronger lock", "berth-count": "condition into write",
        "line-by-line": "order",
    },
    "mariadb": {"call-cancel": "condition into write", "gap-insert": "isolation", "gate-queue": "index"},
    "mysql": {"crane-key": "shorter", "gap-insert": "isolation"},
}  # fmt: skip


#: Those of the same kind as another, and those of which the corpus has a tape, are for the soak.
ALIKE = {
    ("postgresql", "berth-swap"),
    ("postgresql", "crane-standby"),
    ("postgresql", "box-number"),
    ("postgresql", "call-cancel"),
    ("postgresql", "berth-count"),
    ("postgresql", "manifest-total"),
    ("mysql", "gap-insert"),
}


@pytest.mark.parametrize(
    ("server", "name"),
    [
        pytest.param(server, name, marks=[pytest.mark.soak] if (server, name) in ALIKE else [])
        for server, own in FIRST.items()
        for name in own
    ],
)
def test_a_cure_is_found_without_a_look_at_the_remedies_by_hand(request, call, server, name):
    request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    done = call("propose", name, "--target", f"local:{server}", "--json")
    assert done.code == 0, done.err
    first = done.json["candidates"][0]
    assert (first["verdict"], first["kind"]) == ("cures", FIRST[server][name])
    assert first["proven"] is (first["cost"]["complete"] is True)
    assert first["because"]
    assert not first["cost"]["rules_broken"]
    assert not first["cost"]["anomalies"]
    assert (first["defect"], first["dominated"]) == (None, False)
    assert done.json["why_first"].startswith(f"'{first['name']}' is first")


QUAY = """
scenario: quay-places
data: |
  create table quay (id int primary key, free int not null, master varchar(20));
  create table moored (vessel varchar(20) primary key, quay int not null);
  insert into quay values (2, 1, null);
transactions:
  ines:
    isolation: read committed
    statements:
      - sql: select free, master from quay where id = 2
        keep: {free: free, master: master}
      - sql: update quay set free = :free - 1 where id = 2
        when: free > 0
        otherwise: rollback
      - insert into moored (vessel, quay) values ('Halcyon', 2)
  tomas:
    isolation: read committed
    statements:
      - sql: select free as there from quay where id = 2
        keep: {seen: there}
      - sql: update quay set free = :seen + 1 where id = 2
        when: seen < 3
"""


@pytest.mark.parametrize("server", NATIVE)
def test_a_value_that_is_read_checked_and_written_goes_into_the_write_as_a_whole(
    request, call, tmp_path, server
):
    request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    (tmp_path / "quay.yaml").write_text(QUAY)
    named = {}
    for one in call("propose", "quay.yaml", "--target", f"local:{server}", "--json").json[
        "candidates"
    ]:
        named[one["name"]] = one
    whole, check = named["decide in the write"], named["update only if unchanged, otherwise retry"]
    for one in (whole, check):
        assert (one["verdict"], one["proven"], one["defect"]) == ("cures", True, None)
        assert one["kind"] == "condition into write"
        assert not one["cost"]["anomalies"]
    assert whole["cost"]["outcomes"].keys() <= {"clean", "waited"}
    assert whole["change"]["drop"] == {"ines": [1], "tomas": [1]}
    ines = whole["change"]["rewrite"]["ines"]
    assert ines["2"]["sql"] == "update quay set free = free - 1 where id = 2 and free > 0"
    assert (ines["2"]["when"], ines["2"]["keep"]) == (None, {"changed": "rows"})
    assert (ines["3"]["when"], ines["3"]["otherwise"]) == ("changed = 1", "rollback")
    assert whole["change"]["rewrite"]["tomas"]["2"]["sql"].endswith(
        "set free = free + 1 where id = 2 and free < 3"
    )
    again = check["change"]["rewrite"]["ines"]["2"]
    assert again["require"] == "rows = 1"
    same = "is not distinct from" if server == "postgresql" else "<=>"
    assert again["sql"].endswith(f"and free = :free and master {same} :master")
    assert "refused" in check["cost"]["outcomes"]
    assert check["change"]["retry"]["tomas"]["times"] == 3


COUNTED = "when: found = 1 and free > 0"


@pytest.mark.parametrize(
    "other",
    [
        "{sql: \"insert into moored (vessel, quay) values ('Oriel', :free)\", when: free > 0}",  # needs the value itself
        "{sql: \"insert into moored (vessel, quay) values ('Oriel', 2)\", when: free > 1}",  # another check of it
        "{sql: select 1, require: free > 0}",
        COUNTED,  # in place of the check: the number of rows of the read itself
    ],
)
def test_where_the_value_is_needed_elsewhere_the_read_stays(kept, call, tmp_path, other):
    text = QUAY.replace(
        "- insert into moored (vessel, quay) values ('Halcyon', 2)",
        f"- {other}" if other != COUNTED else "- select 1",
    )
    if other == COUNTED:
        text = text.replace("keep: {free: free,", "keep: {found: rows, free: free,", 1).replace(
            "when: free > 0", COUNTED, 1
        )
    (tmp_path / "quay.yaml").write_text(text)
    for one in call("propose", "quay.yaml", "--json").json["candidates"]:
        assert "ines" not in one["change"].get("drop", {})
        assert one["defect"] is None, one


QUEUE = """
scenario: gate-next
data: |
  create table truck (id int primary key, state varchar(10) not null);
  insert into truck values (1, 'due'), (2, 'due'), (3, 'due');
transactions: {north: &next {isolation: read committed, statements: [
  {sql: "select id from truck where state = 'due' order by id limit 1 for update", keep: {truck: id}},
  "update truck set state = 'in' where id = :truck"]}, south: *next}
"""


@pytest.mark.parametrize("server", ["postgresql", "mysql"])
def test_a_queue_may_pass_over_what_is_locked_and_that_only_eases(request, call, tmp_path, server):
    request.getfixturevalue({"postgresql": "kept", "mysql": "kept_mysql"}[server])
    (tmp_path / "queue.yaml").write_text(QUEUE)
    done = call("propose", "queue.yaml", "--target", f"local:{server}", "--json").json
    first = done["candidates"][0]
    assert (first["verdict"], first["kind"], first["cost"]["waits"]) == ("eases", "timeout", 0)
    assert all("for update skip locked" in sql["1"] for sql in first["change"]["rewrite"].values())
    assert not any("%(" in line for one in done["candidates"] for line in one["statements"]), (
        "values by their names"
    )
    (tmp_path / "all.yaml").write_text(
        QUEUE.replace(" limit 1", "")
    )  # who wants all of them wants those, too
    every = call("propose", "all.yaml", "--target", f"local:{server}", "--json").json
    assert not any(
        "skip locked" in line for one in every["candidates"] for line in one["statements"]
    )


def test_rows_are_told_apart_by_the_values_of_parameters_and_not_by_their_names(
    kept, call, tmp_path
):
    data = "create table berth (id int primary key, moved int); insert into berth values (3, 0), (7, 0);"
    texts = [f"update berth set moved = moved + 1 where id = :{name}" for name in ("mine", "other")]
    parts = {"early": {"mine": 3, "other": 7}, "late": {"mine": 7, "other": 3}}
    reported = {
        n: {"parameters": p, "isolation": "read committed", "statements": texts}
        for n, p in parts.items()
    }
    (tmp_path / "s.yaml").write_text(
        json.dumps({"scenario": "given", "data": data, "transactions": reported})
    )
    found = call("propose", "s.yaml", "--json").json["candidates"]
    order = next(one for one in found if one["kind"] == "order")
    assert order["change"]["reorder"] == {"late": [2, 1]}
    assert order["these_values_only"]
    assert not found[0]["these_values_only"], "what the code can do for all values comes first"
    added = [one["change"]["add"] for one in found if one["kind"] == "first lock"]
    for change in added:
        lines = {name: next(iter(sql.values())) for name, sql in change.items()}
        assert ("id = :mine" in lines["early"]) is ("id = :other" in lines["late"]), lines


def test_the_rows_of_batches_are_locked_by_key(kept_mariadb, call):
    done = call("propose", "batch-order", "--target", "local:mariadb", "--json")
    first = done.json["candidates"][0]
    assert (done.code, first["kind"], first["verdict"]) == (0, "batch order", "cures")
    assert any("order by slot.id for update" in line for line in first["statements"])


def test_what_is_written_to_a_copy_can_be_tried_again(kept, call, tmp_path):
    text = "# what the night shift saw\n" + samples.text("tug-upgrade")
    (tmp_path / "tug.yaml").write_text(text)
    done = call("propose", "tug.yaml", "--write", "with.yaml", "--quiet")
    assert (
        done.code,
        done.out.strip().startswith("tug-upgrade on PostgreSQL: only while it is free"),
    ) == (0, True)
    written = (tmp_path / "with.yaml").read_text()
    assert written.startswith("# what the night shift saw\nscenario: tug-upgrade")
    added = set(read_scenario(written.encode(), "with").scenario.remedies)
    name = (added - set(read_scenario(text.encode(), "tug").scenario.remedies)).pop()
    assert (
        call("trial", "with.yaml", "--remedy", name, "--quiet").out.strip()
        == f"tug-upgrade: {name}"
    )
    patch = call("propose", "tug.yaml", "--patch").out
    assert (
        "+update tug set vessel = 'Halcyon', jobs = jobs + 1 where id = 4 and vessel is null;"
        in patch
    )


def test_an_index_is_handed_over_in_the_form_that_lets_writers_go_on():
    for server, words in (
        ("postgresql", "concurrently"),
        ("mysql", "lock=none"),
        ("mariadb", "lock=none"),
    ):
        lines = rules_of(server).advice.gentle("create index box_truck on box (truck)")
        assert any(words in line for line in lines)
        assert any("timeout" in line for line in lines)


CLEAN = """
scenario: quiet
data: create table berth (id int primary key); insert into berth values (3), (7);
transactions:
  a: {statements: [select * from berth where id = 3]}
  b: {statements: [select * from berth where id = 7]}
"""


def test_names_that_a_scenario_has_are_not_used_again():
    change = Candidate(
        kind="isolation",
        name="read committed",
        because=(),
        remedy=remedy(isolation="read committed"),
    )
    text = CLEAN.lstrip() + "remedies:\n  read committed: {timeout: 1s}\n"
    again = read_scenario(
        with_remedies(text, [change, change], ["read committed"]).encode(), "again"
    ).scenario
    assert list(again.remedies) == ["read committed (2)", "read committed (3)", "read committed"]


def test_entries_are_indented_as_those_that_stand_there_and_never_break_the_file():
    change = Candidate(
        kind="isolation", name="new", because=(), remedy=remedy(isolation="read committed")
    )
    deep = CLEAN.lstrip() + "remedies:  # by hand\n    # the first\n    other: {timeout: 1s}\n"
    assert set(read_scenario(with_remedies(deep, [change]).encode(), "deep").scenario.remedies) == {
        "new",
        "other",
    }
    with pytest.raises(InputError, match="in one line"):
        with_remedies(CLEAN.lstrip() + "remedies: {other: {timeout: 1s}}\n", [change])


PARTS = """
scenario: parts
data: |
  create table berth (id int primary key, moved int not null);
  insert into berth values (3, 0), (7, 0);
transactions:
  early: {statements: [update berth set moved = 1 where id = 3, update berth set moved = 1 where id = 7]}
  late: {statements: [update berth set moved = 2 where id = 7, update berth set moved = 2 where id = 3]}
remedies:
  two transactions: {split: {early: 1}}
  portions: {portions: {late: {1: [update berth set moved = 2 where id = 7, select 1]}}}
"""  # fmt: skip


@pytest.mark.parametrize(
    ("rule", "rank"),
    [("", "eases"), ("holds: {both are there: select count(*) = 2 from berth}\n", "cures")],
)
def test_who_makes_several_transactions_of_one_cures_only_by_a_rule(
    kept, call, tmp_path, rule, rank
):
    (tmp_path / "s.yaml").write_text(PARTS + rule)
    for words in ((), ("--order", "early late early late")):
        variants = call("trial", "s.yaml", *words, "--json").json["variants"][1:]
        assert [one["verdict"] for one in variants] == [rank, rank], (words, variants)


def test_waiting_alone_is_no_conflict_but_may_be_shortened(kept, call):
    done = call("propose", "pile-up", "--for", "120s")
    assert (
        done.code,
        "Nothing to cure: no schedule ends in a conflict" in " ".join(done.out.split()),
    ) == (0, True)


def test_where_nothing_is_wrong_nothing_is_proposed(kept, call, tmp_path):
    (tmp_path / "quiet.yaml").write_text(CLEAN)
    done = call("propose", "quiet.yaml")
    assert (done.code, "Nothing to cure" in done.out) == (0, True)
    assert call("propose", "quiet.yaml", "--json").json["candidates"] == []
    refused = call("propose", "quiet.yaml", "--outside")
    assert (refused.code, "scratch space only" in refused.err) == (2, True)
    assert call("propose", "quiet.yaml", "--pick", 3, "--patch").code == 2


def test_a_collation_of_the_scenario_s_own_is_another_one_each_time_the_data_is_loaded(
    kept, call, tmp_path
):
    (tmp_path / "s.yaml").write_text("""
scenario: folded
data: |
  create collation folded (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
  create table berth (name text collate folded primary key, moved int);
  insert into berth values ('East', 0), ('West', 0);
transactions:
  north: {statements: [update berth set moved = 1 where name = 'East', update berth set moved = 1 where name = 'West']}
  south: {statements: [update berth set moved = 2 where name = 'west', update berth set moved = 2 where name = 'east']}
""")
    done = call("propose", "s.yaml", "--json")
    assert done.code == 0
    assert {"order", "first lock"} <= {
        one["kind"] for one in done.json["candidates"] if one["verdict"] == "cures"
    }


def test_a_captured_conflict_goes_from_the_scenario_on_standard_input(kept, run):
    text = samples.text("berth-swap")
    done = run("propose", "-", "--json", input=text)
    assert (done.code, done.json["candidates"][0]["kind"]) == (0, "order")
    bare = run(
        "propose", "-", "--json", input=text[: text.index("remedies:")]
    )  # they are not looked at
    assert [one["change"] for one in bare.json["candidates"]] == [
        one["change"] for one in done.json["candidates"]
    ]


def test_what_changes_the_meaning_is_a_defect_even_if_it_cures(kept):
    scenario = read_scenario(samples.text("berth-swap").encode(), "berth-swap").scenario
    engine = connect(kept, "own", private=True)
    try:
        engine.make_scratch()
        how = ExploreOptions(limit=300)
        proposer = Proposer(
            connect=lambda: engine,
            engine=engine,
            explores=Here(connect=lambda: engine, engine=engine),
            scenario=scenario,
            options=PlayOptions(locks="full"),
            how=how,
        )
        found = proposer.run()
        assert found.cures
        for change in (
            {"rewrite": {"late": {2: "select 1"}}},
            {"rewrite": {"late": {2: "update berth set moved = moved + 2 where id = 3"}}},
            {"drop": {"late": (2,)}},
        ):
            wrong = Candidate(kind="order", name=str(change), because=(), remedy=remedy(**change))
            proposal = proposer.attempt(wrong, found)
            assert proposal is not None
            assert (proposal.verdict.rank, proposal.cures) == ("loses", False), change
            assert "run one after another" in str(proposal.defect)
        is_redundant_move = Candidate(
            kind="index",
            name="i",
            because=(),
            remedy=remedy(index=("create index i on berth (moved)",)),
        )
        assert proposer.attempt(is_redundant_move, found) is None
        broken = Candidate(
            kind="index",
            name="j",
            because=(),
            remedy=remedy(index=("create index j on berth (gone)",)),
        )
        assert proposer.attempt(broken, found) is None
        assert [name for name, _ in found.dropped] == ["i", "j"]
    finally:
        engine.close()


def evidence(
    statements: list[object], tables: dict[str, TableKeys], server: str = "postgresql"
) -> Evidence:
    scenario = Scenario.model_validate(
        {"scenario": "made", "data": "x", "transactions": {"a": {"statements": statements}}}
    )
    return Evidence(
        scenario=scenario, rules=rules_of(server), explored=None, played=None, tables=tables
    )  # type: ignore[arg-type]


KEYED = {
    "berth": TableKeys(primary=("id",)),
    "crate": TableKeys(primary=("id",), references=("berth",)),
}


@pytest.mark.parametrize("server", NATIVE)
@pytest.mark.parametrize(
    ("first", "then", "free"),
    [
        ("update berth set n = 1 where id = 3", "update berth set n = 1 where id = 7", True),
        ("update berth set n = 1 where id = 3", "update berth set n = 2 where id = 3", False),
        ("update berth set n = 1 where id = 3", "update berth set n = 1 where n = 7", False),
        ("update berth set id = 7 where id = 3", "update berth set n = 1 where id = 7", False),
        ("select n from berth where id = 3", "select n from berth where id = 3", True),
        ("select n from berth where id = 3", "update berth set n = 1 where id = 3", False),
        ("select n from berth where id = 3", "update crate set kg = 1 where id = 3", True),
        ("insert into berth (id) values (9)", "insert into crate (id, berth) values (1, 9)", False),
        ("update berth set n = 1 where id = 9", "insert into crate (id, berth) values (1, 9)", True),
        ("select now()", "update berth set n = 1 where id = 3", False),
        ({"sql": "select n from berth where id = 3", "keep": {"n": "n"}}, "update crate set kg = :n where id = 1", False),
        ({"sql": "select 1", "when": "1 = 1"}, "update crate set kg = 1 where id = 1", False),
    ],
)  # fmt: skip
def test_statements_change_places_only_where_that_keeps_the_meaning(server, first, then, free):
    found = list(orders(evidence([first, then], KEYED, server), "a"))
    assert found[0] == (1, 2)
    assert ((2, 1) in found) is free


def proposal(name: str, rank: str, size: int = 1, **figures: object) -> Proposal:
    numbers = {"runs": 4, "kinds": {"waited": 4}, "waits": 2, "longest_chain": 1, "locks": 5, "time_ms": 1.0,
               "broken": (), "ended_well": 4, "attempts": 8, "complete": True, **figures}  # fmt: skip
    change = remedy(rewrite={"a": dict.fromkeys(range(1, size + 1), "select 1")})
    return Proposal(
        candidate=Candidate(kind="order", name=name, because=(), remedy=change),
        figures=Figures(**numbers),  # type: ignore[arg-type]
        verdict=Verdict(rank=rank, reason=""),  # type: ignore[arg-type]
    )


def test_the_rules_of_the_ranking_in_their_order():
    wrong = proposal("wrong data", "no better", broken=("rule",), waits=0)
    retried = proposal("retried", "cures", kinds={"deadlock": 1, "waited": 3})
    waits = proposal("waits", "cures", waits=3)
    small = proposal("small", "cures")
    large = proposal("large", "cures", size=3)
    order = ranked([wrong, retried, waits, large, small])
    assert [one.candidate.name for one in order] == [
        "small",
        "large",
        "waits",
        "retried",
        "wrong data",
    ]
    assert [one.dominated for one in order] == [False, True, True, True, True]
    assert "fewer" not in (why_first(order[:1]) or "")
    assert "ahead of 'large' by less to change" in (why_first(order) or "")
    trade = ranked([proposal("fewer waits", "cures", size=3, waits=1), small])
    assert not any(one.dominated for one in trade)
    assert "'small' would be the better choice where that little is changed counts more" in str(
        why_first(trade)
    )


def test_candidates_are_put_together_only_where_they_change_different_things():
    def made(kind: str, **parts: object) -> Candidate:
        return Candidate(kind=kind, name=kind, because=(), remedy=remedy(**parts))  # type: ignore[arg-type]

    lock = made("stronger lock", rewrite={"a": {1: "select 1 for update"}})
    check = made("condition into write", rewrite={"a": {2: "select 2"}})
    both = merged(lock, check)
    assert both is not None
    assert plain(both.remedy) == {"rewrite": {"a": {1: "select 1 for update", 2: "select 2"}}}
    assert merged(lock, made("condition into write", rewrite={"a": {1: "select 3"}})) is None
    assert merged(lock, lock) is None


@pytest.mark.parametrize(
    ("sql", "more", "wanted"),
    [
        ("update berth set n = 1 where id = 3", "n > 0", "update berth set n = 1 where id = 3 and n > 0"),
        ("update berth set n = 1 where id = 3 or id = 7", "n > 0", "update berth set n = 1 where (id = 3 or id = 7) and n > 0"),
        ("update berth set v = 'where' where id = 3", "n > 0", "update berth set v = 'where' where id = 3 and n > 0"),
        ("update berth set n = (select max(n) from berth where id < 3) where id = 3", "n > 0",
         "update berth set n = (select max(n) from berth where id < 3) where id = 3 and n > 0"),
        ("update berth set n = 1 where id = 3 -- app=gate and n > 1", "n > 0",
         "update berth set n = 1 where id = 3 and n > 0 -- app=gate and n > 1"),
        ("update berth set n = 1\n  where id = 3 /* or */ and v = 'a  b';", "closed or full",
         "update berth set n = 1\n  where id = 3 /* or */ and v = 'a  b' and (closed or full);"),
        ("update berth set n = 1", "n > 0", None),
        ("update berth set n = 1 where id = 3 returning n", "n > 0", None),
        ("no sql at all", "n > 0", None),
    ],
)  # fmt: skip
def test_a_condition_is_added_to_a_write_s_own(sql, more, wanted):
    reading = Reading(sql, "postgres")
    assert reading.with_condition(term(more, "postgres")) == wanted


@pytest.mark.parametrize(
    ("dialect", "sql", "clause", "wanted"),
    [
        ("postgres", "select n from berth where id = 3 -- app=gate", "for update", "select n from berth where id = 3 for update -- app=gate"),
        ("postgres", "select n from berth\nwhere id = 3 -- one\nfor no key update of berth nowait;", "for share",
         "select n from berth\nwhere id = 3 for share -- one\n"),
        ("postgres", "select ' for update' from berth for key share", None, "select ' for update' from berth"),
        ("mysql", "select n from berth lock in share mode", "for update", "select n from berth for update"),
        ("mysql", "select n from berth # for update\n order by n limit 1", "for update", "select n from berth # for update\n order by n limit 1 for update"),
    ],
)  # fmt: skip
def test_a_lock_clause_is_put_where_the_tokens_say(dialect, sql, clause, wanted):
    assert Reading(sql, dialect).with_lock(clause).rstrip() == wanted.rstrip()


@pytest.mark.parametrize(
    ("sql", "name", "value", "wanted"),
    [
        ("update berth set n = :n * 2 where id = :id", "n", "n + 1", "update berth set n = (n + 1) * 2 where id = :id"),
        ("update berth set v = ':n', n = :n::int where id = 3", "n", "m", "update berth set v = ':n', n = m::int where id = 3"),
        ("update berth set n = :n and open where id = 3", "n", "shut or full", "update berth set n = (shut or full) and open where id = 3"),
        ("update berth set n = /* :n */ :n where id = 3", "n", "n - 1", "update berth set n = /* :n */ (n - 1) where id = 3"),
    ],
)  # fmt: skip
def test_an_expression_takes_the_place_of_a_parameter_and_stays_whole(sql, name, value, wanted):
    found = term(value, "postgres")
    assert Reading(sql, "postgres").with_value(name, found) == wanted


def test_entries_for_a_scenario_file_keep_what_stands_there():
    change = Candidate(kind="retry", name="begin again", because=(), means=("a: b",),
                       remedy=remedy(retry={"a": {"times": 3, "pause": "50ms"}}, add={"a": {1: "select 1"}}))  # fmt: skip
    for text in (
        CLEAN.lstrip(),
        "# first\n" + CLEAN.lstrip() + "remedies:  \n  # by hand\n  other: {timeout: 1s}\n",
    ):
        written = with_remedies(text, [change])
        kept = [line for line in text.splitlines() if line.strip()]
        assert [line for line in written.splitlines() if line in kept] == kept
        again = read_scenario(written.encode(), "again").scenario.remedies["begin again"]
        assert json.loads(again.model_dump_json(exclude={"about"})) == json.loads(
            change.remedy.model_dump_json(exclude={"about"})
        )


def test_all_servers_are_covered():
    for server in FIRST:
        needs(server)
    assert set(FIRST) == set(NATIVE)
    assert Proposals.__dataclass_fields__["tried"]


STRIKE_OFF = """
scenario: strike-off
data: |
  create table vessel (id int primary key, name text);
  create table box (id int primary key, vessel int references vessel (id));
  insert into vessel select n, 'v' || n from generate_series(1, 400) n;
  insert into box select n, 100 + n % 200 from generate_series(1, 3000) n
transactions:
  clerk:
    isolation: serializable
    statements: [select count(*) from vessel where id = 301, delete from vessel where id = 1]
  gate:
    isolation: serializable
    statements: [select name from vessel where id = 1, 'insert into box values (9001, 301)']
"""


def test_a_foreign_key_without_an_index_is_given_one_where_that_ends_refusals(kept, call, tmp_path):
    engine = connect(kept, "own", private=True)
    try:
        engine.make_scratch()
        found = Proposer(
            connect=lambda: engine, engine=engine, explores=Here(connect=lambda: engine, engine=engine),
            scenario=read_scenario(STRIKE_OFF.encode(), "s").scenario,
            options=PlayOptions(locks="full"), how=ExploreOptions(limit=300), first_only=True,
        ).run()  # fmt: skip
    finally:
        engine.close()
    (first,) = found.cures
    assert first.candidate.remedy.index == ("create index box_vessel on box (vessel)",)
    assert found.explored.reach.complete
    assert first.figures.complete
    assert "refused" in found.baseline.kinds
    assert "refused" not in first.figures.kinds
    (tmp_path / "loose.yaml").write_text(STRIKE_OFF.replace("serializable", "read committed").replace(
        "select name from vessel where id = 1", "update vessel set name = 'x' where id = 1"
    ))  # fmt: skip
    dropped = call("propose", "loose.yaml", "--json").json["dropped"]
    assert not dropped or "no schedule is better with it" in dropped[0]["why"]


def test_a_recording_is_taken_as_the_scenario_that_was_run(kept, call):
    done = call(
        "play",
        "crane-standby",
        "--isolation",
        "repeatable read",
        "--order",
        "marit jonas",
        "--save",
        "r.json",
    )
    assert done.code in (0, 1)
    carried = call("propose", "r.json", "--json").json
    assert {c["verdict"] for c in carried["candidates"]} >= {"cures"}
    assert carried["baseline"]["anomalies"]
    again = call("play", "r.json", "--json").json
    assert again["order"][:2] == ["marit", "jonas"]
    assert {one["asked"] for one in again["transactions"]} == {"repeatable read"}
    assert call("lint", "r.json").code == 0


@pytest.mark.parametrize("server", ["postgresql", "mysql"])
def test_who_goes_on_after_an_error_is_to_roll_back_and_retry(call, tmp_path, server):
    path = tmp_path / "s.yaml"
    path.write_text(samples.text("caught-and-gone-on"))
    target = ("--target", f"local:{server}")
    done = call("propose", path, *target)
    assert "+update slot set box = 501 where id = 7; -- after an error: roll back" in done.out
    found = call("propose", path, *target, "--json").json["candidates"]
    (one,) = [c for c in found if c["name"] == "roll back after an error, and retry"]
    assert (one["kind"], one["verdict"], one["cost"]["anomalies"]) == ("retry", "eases", 0)
