"""The samples on a real PostgreSQL: what a person who plays them gets."""

from __future__ import annotations

import functools
import json
import os
import select
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
import pytest

from catenum.core.formats import schema_of
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import from_json, without_times_and_ids
from catenum.core.scenario.model import Transaction
from catenum.engines.ports import StatementsEffects
from catenum.engines.postgresql.engine import connect
from catenum.lab.run.play import PlayOptions, play
from conftest import leftovers, sample

SAMPLES = [
    # sample, outcome, exit code, findings, a sentence that a colleague must be able to read
    (
        "berth-swap",
        "deadlock",
        1,
        ["opposite-order"],
        "early and late each held what the other wanted",
    ),
    (
        "tug-upgrade",
        "deadlock",
        1,
        ["lock-upgrade"],
        "inbound held FOR SHARE on tug(id=4) since inbound 1",
    ),
    ("crane-standby", "clean", 1, [], "Yet the data is wrong: one crane in service is false"),
    (
        "left-open",
        "stuck",
        1,
        ["left-open"],
        "clerk head blocker: blocks 1 directly, 4 in all; idle in its open",
    ),
    (
        "yard-rebuild",
        "waited",
        0,
        ["schema-change"],
        "gate 1 wanted AccessShareLock on slot and queued behind change 1",
    ),
]


@pytest.mark.parametrize(("name", "kind", "code", "findings", "sentence"), SAMPLES)
def test_a_sample_comes_out_as_it_should_and_tells_why(
    run, kept, name, kind, code, findings, sentence, tmp_path
):
    done = run("play", name, "--save", "rec.json")
    recording = from_json((tmp_path / "rec.json").read_bytes(), "rec.json")
    assert (recording.outcome.kind, done.code) == (kind, code)
    assert [finding.id for finding in recording.findings] == findings
    assert sentence in " ".join(done.out.split())
    assert sentence in " ".join(run("explain", "rec.json").out.split())
    assert leftovers(kept) == ([], [])


def test_a_deadlock_names_members_victim_rule_and_what_each_held(engine):
    recording = play(engine, sample("berth-swap").scenario, PlayOptions())
    (cycle,) = recording.deadlocks
    assert [(m.transaction, m.waits_for, m.resource.text, m.holds) for m in cycle.members] == [
        ("early", "late", "berth(id=7)", ("berth(id=3) FOR NO KEY UPDATE",)),
        ("late", "early", "berth(id=3)", ("berth(id=7) FOR NO KEY UPDATE",)),
    ]
    assert [len(member.statements) for member in cycle.members] == [2, 2]
    assert cycle.victim == "late"
    assert cycle.agreed
    assert "checks first" in cycle.rule
    assert cycle.verdict_ms > cycle.at_ms, "Catenum knew of the cycle before the server said so"
    assert "deadlock detected" in cycle.server_report
    assert recording.rows["berth"].rows == (("3", "Oriel", "1"), ("7", "Halcyon", "1"))


@pytest.mark.parametrize(("locks", "reported_by"), [("waits", "statement"), ("full", "server")])
def test_every_wait_says_since_which_statement_of_the_holder(engine, locks, reported_by):
    recording = play(engine, sample("left-open").scenario, PlayOptions(locks=locks))
    reported = {
        (w.waiter, w.holder, w.holder_statement, w.resource.text, str(w.wanted), str(w.held))
        for w in recording.waits
    }
    assert reported == {
        ("loader", "clerk", 1, "manifest(id=12)", "FOR NO KEY UPDATE", "FOR NO KEY UPDATE"),
        ("planner", "loader", 1, "slot(id=42)", "FOR NO KEY UPDATE", "FOR NO KEY UPDATE"),
        ("desk", "planner", 1, "pilot(id=5)", "FOR NO KEY UPDATE", "FOR NO KEY UPDATE"),
        ("tally", "loader", 2, "manifest(id=12)", "FOR SHARE", "FOR NO KEY UPDATE"),
    }
    assert {w.holder_told_by for w in recording.waits if not w.queued} == {reported_by}
    assert all(w.conflict and "table 13.3" in w.conflict for w in recording.waits)
    assert recording.longest_chain() == 3


#: Of one schedule; a hundred by hand, with `make soak`.
REPEATED = 100 if "CATENUM_TESTS_EVERYWHERE" in os.environ else 12


@pytest.mark.parametrize("name", [entry[0] for entry in SAMPLES])
def test_repeated_runs_of_a_schedule_give_identical_recordings(engine, name):
    scenario = sample(name).scenario
    runs = [without_times_and_ids(play(engine, scenario, PlayOptions())) for _ in range(REPEATED)]
    assert all(recording == runs[0] for recording in runs[1:])


@pytest.mark.parametrize(
    "place", ["poll_waits", "reader.table.locks_of", "reader.rows.locked", "reader.rows.members"]
)
def test_a_machine_that_stands_still_past_the_servers_own_check_changes_no_recording(
    engine, monkeypatch, place
):
    scenario = sample("tug-upgrade").scenario
    seen = without_times_and_ids(play(engine, scenario, PlayOptions()))
    *path, name = place.split(".")
    owner = functools.reduce(getattr, path, engine)
    plain, calls = getattr(owner, name), 0

    def late(*given):
        nonlocal calls
        calls += 1
        if calls == at:
            time.sleep(0.2)
        return plain(*given)

    monkeypatch.setattr(owner, name, late)
    for once in (False, True):
        for at in range(1, 7):
            calls = 0
            assert without_times_and_ids(play(engine, scenario, PlayOptions(once=once))) == seen, (
                once,
                at,
            )


@pytest.mark.parametrize("victim", ["early", "late"])
def test_the_victim_can_be_chosen(engine, victim):
    recording = play(engine, sample("berth-swap").scenario, PlayOptions(victim=victim))
    assert recording.deadlocks[0].victim == victim
    assert recording.transaction(victim).status == "failed"


def test_locks_full_shows_tables_rows_and_who_waits(engine):
    recording = play(engine, sample("tug-upgrade").scenario, PlayOptions(locks="full"))
    second = {
        (lock.transaction, lock.resource.text, str(lock.mode), lock.granted)
        for lock in recording.pictures[1].locks
    }
    assert {
        ("inbound", "tug(id=4)", "FOR SHARE", True),
        ("outbound", "tug(id=4)", "FOR SHARE", True),
        ("inbound", "tug", "RowShareLock", True),
    } <= second
    first = sample("berth-swap").scenario
    waiting = play(engine, first, PlayOptions(locks="full")).pictures[2].locks
    assert ("early", "berth(id=7)", False) in {
        (k.transaction, k.resource.text, k.granted) for k in waiting
    }


def test_isolation_is_the_one_the_server_reports(run):
    # PostgreSQL takes "read uncommitted" and reports it, although it behaves as read committed.
    reported = run("play", "berth-swap", "--isolation", "late=repeatable read", "--json").json
    assert [t["isolation"] for t in reported["transactions"]] == [
        "read committed",
        "repeatable read",
    ]
    assert "stricter-isolation" in [finding["id"] for finding in reported["findings"]]


def test_crane_standby_is_refused_at_serializable(run):
    done = run("play", "crane-standby", "--isolation", "serializable", "--json")
    assert done.code == 1
    assert done.json["outcome"] == {
        "kind": "refused",
        "data": "unchecked",
        "holds": {"one crane in service": True},
    }
    assert [finding["id"] for finding in done.json["findings"]] == ["serialization-refused"]


def test_the_conflict_of_two_inserts_names_the_key(run, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: same-berth\n"
        "data: create table berth (id int primary key, vessel text)\n"
        "transactions:\n"
        "  north: {statements: [\"insert into berth (id, vessel) values (9, 'Halcyon')\"]}\n"
        "  south: {statements: [\"insert into berth (id, vessel) values (9, 'Oriel')\"]}\n"
        "order: north south\n"
    )
    done = run("play", "s.yaml", "--json")
    assert done.json["waits"][0]["resource"]["text"] == "new key berth(id=9)"
    assert done.json["waits"][0]["holder_statement"] == 1
    assert done.json["outcome"]["kind"] == "error", (
        "the second insert is rejected once the first has committed"
    )


def test_a_login_without_special_rights_can_play_too(run, own_server):
    """No superuser, no pgrowlocks: row locks come from xmax, and the victim is a matter of timing,
    which is said.
    """
    done = run(
        "play", "berth-swap", "--target", own_server.url("master"), "--locks", "full", "--json"
    )
    assert done.json["outcome"]["kind"] == "deadlock"
    assert "secret-word" not in done.out
    assert "a matter of timing" in done.json["deadlocks"][0]["rule"]
    rows = {
        (lock["transaction"], lock["resource"]["text"], lock["mode"])
        for lock in done.json["pictures"][1]["locks"]
        if lock["resource"]["kind"] == "row"
    }
    assert rows == {
        ("early", "berth(id=3)", "mode not reported"),
        ("late", "berth(id=7)", "mode not reported"),
    }
    assert done.json["waits"][0]["held"] == "FOR NO KEY UPDATE"
    with own_server.admin() as admin:
        found = admin.execute(
            "select count(*) from pg_namespace where nspname like 'catenum%'"
        ).fetchone()
    assert found == (0,)


def test_shared_row_locks_are_read_from_multixacts(own_server):
    engine = connect(own_server.url("master"), "own")
    try:
        engine.make_scratch()
        recording = play(engine, sample("tug-upgrade").scenario, PlayOptions(locks="full"))
    finally:
        engine.close()
    assert engine.capabilities.row_locks_by == "xmax"
    assert ("inbound", "tug(id=4)", "FOR SHARE") in {
        (lock.transaction, lock.resource.text, str(lock.mode))
        for lock in recording.pictures[1].locks
    }


def test_a_wait_for_a_session_outside_the_run_says_so(run, kept, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: outside\ndata: select 1\ntransactions:\n  pilot: {statements: [select pg_advisory_xact_lock(77)]}\n"
    )
    with psycopg.connect(kept, application_name="harbour radio") as other:
        other.execute("select pg_advisory_xact_lock(77)")
        done = run("play", "s.yaml")
    assert done.code == 1
    assert "(harbour radio), which is not part of this run" in " ".join(done.out.split())


def test_the_recording_written_is_the_recording_read(run, tmp_path):
    run("play", "yard-rebuild", "--locks", "full", "--save", "a.json", "--quiet")
    plain = json.loads((tmp_path / "a.json").read_text())
    again: Recording = from_json((tmp_path / "a.json").read_bytes(), "a.json")
    assert again.scenario == plain["scenario"] == "yard-rebuild"
    assert set(schema_of("recording")["properties"]) == set(plain)


def test_retry_runs_the_whole_transaction_again(engine):
    scenario = sample("berth-swap").scenario
    late = scenario.transactions["late"]
    again = Transaction.model_validate(
        {**late.model_dump(exclude_unset=True, mode="json"), "retry": {"times": 3}}
    )
    changed = scenario.model_copy(update={"transactions": {**scenario.transactions, "late": again}})
    recording = play(engine, changed, PlayOptions())
    assert [(t.name, t.status, t.attempts) for t in recording.transactions] == [
        ("early", "committed", 1),
        ("late", "committed", 2),
    ]
    assert recording.rows["berth"].rows == (("3", "Oriel", "2"), ("7", "Halcyon", "2"))


def test_trial_proves_the_reordered_version(run):
    done = run("trial", "berth-swap", "--json")
    variants = {v["name"]: v for v in done.json["variants"]}
    assert (done.code, done.json["best"]) == (0, "same order")
    assert variants["as it is"]["outcomes"] == {"deadlock": 2, "waited": 2, "clean": 2}
    assert variants["same order"]["outcomes"] == {"waited": 2, "clean": 2}
    assert variants["same order"]["complete"]
    assert [variants[n]["verdict"] for n in ("same order", "give up waiting", "try again")] == [
        "cures",
        "eases",
        "cures",
    ]


@pytest.mark.parametrize(
    ("name", "limit", "verdicts"),
    [
        ("tug-upgrade", 300, {"lock for update": "cures", "plain read": "loses"}),
        (
            "crane-standby",
            300,
            {
                "serializable": "eases",
                "serializable, check again": "cures",
                "lock what was seen": "cures",
                "read committed": "no better",
            },
        ),
        pytest.param(
            "yard-rebuild",
            60,
            {"change gives up": "eases", "change tries again": "eases"},
            marks=pytest.mark.soak,
        ),
        (
            "left-open",
            60,
            {"commit at once": "cures", "give up waiting": "eases", "do not wait": "no better"},
        ),
    ],
)
def test_each_sample_s_remedies_are_judged_on_their_merits(call, name, limit, verdicts):
    done = call("trial", name, "--limit", limit, "--json")
    assert {v["name"]: v["verdict"] for v in done.json["variants"][1:]} == verdicts


def test_pause_announces_each_move(run):
    done = run("play", "yard-rebuild", "--pause", "--quiet", input="\n" * 20)
    assert done.code == 0
    assert "move 2: change will run: alter table slot add column" in done.err


def test_what_is_drawn_are_whole_files(run, tmp_path: Path):
    run("play", "berth-swap", "--save", "rec.json", "--quiet")
    done = run("draw", "rec.json", "--format", "both")
    names = sorted(Path(line).name for line in done.out.split())
    assert names == ["rec-graph.png", "rec-graph.svg", "rec-timeline.png", "rec-timeline.svg"]
    assert all(
        (tmp_path / n).read_bytes().startswith(b"\x89PNG") for n in names if n.endswith("png")
    )
    text = (tmp_path / "rec-graph.svg").read_text()
    assert text.rstrip().endswith("</svg>")
    assert "berth(id=7)" in text
    assert "victim" in text


def test_a_row_put_back_elsewhere_is_told_by_its_own_key(engine):
    """The server uses the places of dead rows again, so an address remembered from the last run may
    mean another row.
    """
    engine.load(
        "create table quay (id int primary key, boxes int); insert into quay values (1, 0), (2, 0), (3, 0)"
    )
    engine.keep_data(StatementsEffects(shape=False))
    moved = set()
    for number in (1, 3, 2):
        for page, slot, key in engine.writer.execute(
            "select (ctid::text::point)[0]::int, (ctid::text::point)[1]::int, id from quay"
        ).fetchall():
            moved.add((slot, key))
            assert engine.reader.rows.at("quay", page, slot)[0].text == f"quay(id={key})"
        engine.writer.execute("update quay set boxes = 1 where id = %s", [number])
        engine.data_state()
        engine.restore_data()
        engine.writer.execute("vacuum quay")
    assert len({slot for slot, _ in moved}) < len(moved), (
        "no place was used again: the test shows nothing"
    )


def test_runs_that_begin_at_one_time_do_not_stop_each_other(kept):
    def begin_and_end(_: int) -> str:
        engine = connect(kept, "kept", private=True)
        try:
            engine.make_scratch()
            return engine.info.version
        finally:
            engine.close()

    with ThreadPoolExecutor(6) as pool:
        assert len(set(pool.map(begin_and_end, range(48)))) == 1


def test_of_two_who_begin_to_wait_at_once_the_one_opened_first_checks_first(engine):
    """Else either could become the victim, and a schedule would end in two ways. A session that
    takes another's place checks as that one did.
    """

    def checks_after(name: str) -> int:
        session = engine.open_session(name)
        session.send(
            "select setting::int from pg_catalog.pg_settings where name = 'deadlock_timeout'"
        )
        while (reply := session.poll()) is None:
            select.select([session.fileno()], [], [], 1)
        engine.end([session])
        return int(reply.result.rows[0][0])

    first, second, again = (checks_after(name) for name in ("north", "south", "north"))
    assert second >= first + 100
    assert again == first
