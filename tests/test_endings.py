"""Commands always end: whatever a server does not stop doing, an interrupt and a limit are kept, and nothing is left."""

from __future__ import annotations

import json
import signal
import subprocess

import psycopg
import pytest

from conftest import leftovers, until

#: A function that goes on after it was cancelled; only the end of its session stops it.
STUBBORN = """create function stubborn() returns int language plpgsql as $$ begin loop
  begin perform pg_sleep(0.1); exception when query_canceled then null; end; end loop; end $$;
create function once(n int) returns int language plpgsql as $$ begin
  if current_setting('application_name') like '% restorer' then perform stubborn(); end if; return n; end $$;
create table berth (id int primary key, moved int); insert into berth values (1, 0);"""
#: Where the function is called: data, transactions, rules.
PLACES = {
    "data": (f"{STUBBORN} select stubborn();", "select 1", "select true"),
    "a statement": (STUBBORN, "select stubborn()", "select true"),
    "a rule": (STUBBORN, "select 1", "select stubborn() = 1"),
    "what puts rows back": (
        f"{STUBBORN} alter table berth add check (once(moved) = moved);",
        "update berth set moved = 1 where id = 1",
        "select true",
    ),
}


def scenario(folder, place: str) -> None:
    data, statement, rule = PLACES[place]
    parts = {name: {"statements": [statement]} for name in ("early", "late")}
    plain = {"scenario": "endless", "data": data, "transactions": parts, "holds": {"ends": rule}}
    (folder / "endless.yaml").write_text(json.dumps(plain))


def at_work(kept: str) -> bool:
    with psycopg.connect(kept) as admin:
        query = (
            "select count(*) from pg_stat_activity where application_name like 'catenum%' and wait_event = 'PgSleep'"
        )
        return admin.execute(query).fetchone() != (0,)


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("number", [signal.SIGINT, pytest.param(signal.SIGTERM, marks=pytest.mark.soak)])
def test_an_interrupt_ends_what_cannot_be_cancelled(start, kept, tmp_path, place, number):
    scenario(tmp_path, place)
    process: subprocess.Popen = start("explore" if place.startswith("what") else "play", "endless.yaml")
    until(lambda: at_work(kept) or process.poll() is not None, "it is at work")
    process.send_signal(number)
    _, err = process.communicate(timeout=40)
    assert process.returncode == 130, err
    assert "Traceback" not in err
    assert not at_work(kept)
    assert leftovers(kept) == ([], [])


def test_a_statement_that_goes_on_after_its_limit_is_ended_with_its_session(call, kept, tmp_path):
    scenario(tmp_path, "a statement")
    done = call("play", "endless.yaml", "--statement-limit", "1s")
    assert done.code == 1, done.err
    assert "still working after 1 s" in " ".join(done.out.split())
    assert leftovers(kept) == ([], [])


def test_a_rule_and_data_have_their_limits(call, kept, tmp_path, monkeypatch):
    monkeypatch.setattr("catenum.engines.postgresql.calls.ASK_MS", 1_000.0)
    monkeypatch.setattr("catenum.engines.postgresql.data.LOAD_MS", 1_000.0)
    scenario(tmp_path, "a rule")
    done = call("play", "endless.yaml")
    assert (done.code, "the rule 'ends' could not be checked" in " ".join(done.out.split())) == (1, True)
    scenario(tmp_path, "data")
    done = call("play", "endless.yaml")
    assert (done.code, "took longer than 1 s and was ended" in done.err) == (2, True), done.err
    assert leftovers(kept) == ([], [])
