"""Exploring on the workers of a Dask cluster: the same results, and what goes wrong with one."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from catenum.cluster.cluster import checked_address, local_size
from catenum.core.errors import InputError
from clusters import Machine, machine
from conftest import SCRIPT, WITHOUT_SERVERS, Done, needs, until

with_servers = pytest.mark.skipif(WITHOUT_SERVERS, reason="make test-core runs without servers")
#: What is another one each time: times, how often something was checked, what is played here.
OTHERS = ("at", "started", "swaps", "repeated", "deadlocks", "overtaken", "recordings")
#: Enough schedules to lose something in their midst.
LONG = ("explore", "tide.yaml", "--every", "--check-orders", "0")
TIDE = """
scenario: tide
about: three desks write one tide table of Marrowgate Harbour
data: |
  create table tide (berth int primary key, depth int);
  insert into tide values (1, 9), (2, 8), (3, 7);
transactions:
  north: {statements: [update tide set depth = 10 where berth = 1,
                       update tide set depth = 9 where berth = 2]}
  south: {statements: [update tide set depth = 7 where berth = 2,
                       update tide set depth = 6 where berth = 1]}
  gauge: {statements: [select depth from tide where berth = 1,
                       select depth from tide where berth = 2]}
"""


def same(value: object) -> object:
    """What must not depend on who does the work."""
    if isinstance(value, dict):
        kept = (key for key in value if key not in OTHERS and not key.endswith("_ms"))
        return {key: same(value[key]) for key in kept}
    return [same(one) for one in value] if isinstance(value, list) else value


def differing(one: object, other: object, at: str = "") -> Iterator[tuple[str, object, object]]:
    """Where two results are not the same."""
    if isinstance(one, dict) and isinstance(other, dict):
        for key in sorted(one.keys() | other.keys()):
            yield from differing(one.get(key), other.get(key), f"{at}/{key}")
    elif isinstance(one, list) and isinstance(other, list) and len(one) == len(other):
        for number, (mine, theirs) in enumerate(zip(one, other, strict=True)):
            yield from differing(mine, theirs, f"{at}/{number}")
    elif one != other:
        yield at, one, other


def results(done: Done) -> object:
    assert done.code in (0, 1), done.err
    return same(json.loads(done.out))


@pytest.fixture(scope="module")
def alone():
    """A machine of which no test kills anything, with two workers."""
    needs("postgresql")
    with machine() as made:
        made.start_scheduler()
        made.start_worker()
        made.start_worker()
        yield made


@pytest.fixture
def own():
    """A machine of the test's own, with a scheduler."""
    needs("postgresql")
    with machine() as made:
        (made.folder / "tide.yaml").write_text(TIDE)
        made.start_scheduler()
        yield made


@pytest.fixture(scope="module")
def whole(kept, tmp_path_factory):
    """What one process finds of the long one."""
    folder = tmp_path_factory.mktemp("whole")
    (folder / "tide.yaml").write_text(TIDE)
    words = [str(SCRIPT), *LONG, "--json"]
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True)
    return results(Done(done.returncode, done.stdout, done.stderr))


#: Jobs are given to workers in one way, whoever asks for them: the long ones are for the soak.
SAME = [
    ("explore", "berth-swap"),
    ("sweep", "line-by-line"),
    *(
        pytest.param(words, marks=pytest.mark.soak)
        for words in (
            ("explore", "three-desks", "--limit", "20"),
            ("explore", "manifest-total", "--every"),
            ("trial", "berth-swap"),
            ("propose", "berth-swap"),
            ("propose", "line-by-line"),
        )
    ),
]


@with_servers
@pytest.mark.parametrize("words", SAME)
def test_two_workers_find_what_one_process_finds(alone: Machine, words):
    here = alone.run(*words, "--json")
    there = alone.run(*words, "--json", "--cluster", alone.scheduler)
    assert results(here) == results(there)
    assert "2 workers, each with PostgreSQL" in there.err


@with_servers
def test_scenarios_are_checked_by_the_workers(alone: Machine):
    words = ("check", "berth-swap", "crane-standby", "no-such-sample", "tug-upgrade", "--json")
    here, there = alone.run(*words), alone.run(*words, "--cluster", alone.scheduler)
    assert here.code == there.code == 2

    def cases(done: Done) -> object:
        found = same(json.loads(done.out))
        return [{**case, "seconds": 0} for case in found["cases"]]

    assert cases(here) == cases(there)


@with_servers
@pytest.mark.soak
def test_two_commands_at_once_do_not_count_each_others_deadlocks(own: Machine, whole):
    own.start_worker()
    words = (*LONG, "--json", "--cluster", own.scheduler)
    both = [results(own.done(one)) for one in [own.begin(*words) for _ in range(2)]]
    assert both[0] == both[1] == whole
    assert both[0]["counts"]["uncounted"] == 0


@with_servers
def test_a_worker_that_is_killed_is_replaced_by_the_other(own: Machine, whole):
    lost = own.start_worker()
    own.start_worker()
    command = own.begin(*LONG, "--json", "--cluster", own.scheduler)
    until(lambda: len(own.servers()) > 2, "the workers have servers")
    until(lambda: len(sessions(own)) >= 3 * 2, "both have sessions of the walk")
    lost.kill()
    assert list(differing(results(own.done(command)), whole)) == []


def titles(own: Machine) -> list[bytes]:
    found = []
    for pid in own.servers():
        try:
            found.append(Path(f"/proc/{pid}/cmdline").read_bytes())
        except OSError:
            continue
    return found


@with_servers
def test_a_scheduler_that_is_killed_ends_the_command_and_it_goes_on_later(own: Machine, whole):
    scheduler = own.members[0]
    own.start_worker()
    words = (*LONG, "--json", "--cluster")
    command = own.begin(*words, own.scheduler, "--save", "found")
    state = own.folder / "found" / "state.json"
    until(lambda: begun(state) > 0, "a state with some of its schedules")
    scheduler.kill()
    done = own.done(command)
    assert done.code == 3
    assert "the scheduler at tcp://127.0.0.1:" in done.err
    assert "--resume" in done.err
    before = begun(state)
    own.start_scheduler()
    own.start_worker()
    went_on = own.run(*words, own.scheduler, "--resume", "found")
    assert list(differing(results(went_on), whole)) == []
    assert 0 < before <= whole["counts"]["run"]  # all, where the state was saved late


@with_servers
@pytest.mark.soak
@pytest.mark.parametrize("round_", range(12))
def test_a_scheduler_may_be_killed_at_any_moment(own: Machine, round_: int):
    own.start_worker()
    command = own.begin(*LONG, "--cluster", own.scheduler, "--save", "found")
    until((own.folder / "found" / "state.json").exists, "the walk has begun")
    time.sleep(round_ * 0.4)  # not for something: whatever is under way then
    own.members[0].kill()
    done = own.done(command)  # nothing calls it a fault of Catenum
    assert done.code == 3
    assert "the scheduler at tcp://127.0.0.1:" in done.err


def begun(state: Path) -> int:
    """How many schedules of an exploration are saved."""
    return json.loads(state.read_text())["tally"]["schedules"] if state.exists() else 0


@with_servers
def test_workers_that_cannot_do_the_work_are_left_out_and_said(own: Machine, tmp_path):
    other = tmp_path / "catenum-0.0.1.dist-info"
    other.mkdir()
    (other / "METADATA").write_text("Metadata-Version: 2.1\nName: catenum\nVersion: 0.0.1\n")
    old = own.start_worker(PYTHONPATH=str(tmp_path))
    bare = own.start_worker(CATENUM_POSTGRESQL_PROGRAMS=str(tmp_path / "none"))
    done = own.run("explore", "berth-swap", "--cluster", own.scheduler)
    assert done.code == 3
    assert f"{old.address}: it has Catenum 0.0.1, and this is" in done.err
    assert f"The worker {bare.address} is left out: " in done.err
    assert "no worker of the cluster can do the work" in done.err
    own.start_worker()
    done = own.run("explore", "berth-swap", "--cluster", own.scheduler)
    assert done.code in (0, 1)
    assert "1 worker, each with PostgreSQL" in done.err


@with_servers
@pytest.mark.soak
def test_a_worker_whose_server_died_starts_another_for_the_next_command(own: Machine):
    own.start_worker()
    words = ("explore", "berth-swap", "--json", "--cluster", own.scheduler)
    first = results(own.run(*words))
    for pid in own.servers():
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
    assert results(own.run(*words)) == first


@with_servers
def test_an_interrupt_leaves_no_scratch_space_and_no_task(own: Machine):
    own.start_worker()
    command = own.begin(*LONG, "--cluster", own.scheduler, "--save", "found")
    until(lambda: (own.folder / "found" / "state.json").exists(), "a state")
    command.send_signal(signal.SIGINT)
    assert own.done(command).code == 130
    until(lambda: not sessions(own), "the worker's server has no sessions")
    own.members[-1].process.send_signal(signal.SIGTERM)
    until(lambda: not own.servers(), "the worker's server has ended with it")


def sessions(own: Machine) -> list[bytes]:
    """Sessions of the workers' servers."""
    return [title for title in titles(own) if b"postgres: catenum" in title]


ADDRESSES = {
    "127.0.0.1:8786": "tcp://127.0.0.1:8786",
    "tcp://localhost:8786": "tcp://localhost:8786",
    "tls://pilots.marrowgate:8786": "tls://pilots.marrowgate:8786",
    "tcp://[::1]:8786": "tcp://[::1]:8786",
}
REFUSED = {
    "tcp://192.0.2.7:8786": "neither encrypted nor signed",
    "tcp://0.0.0.0:8786": "neither encrypted nor signed",
    "pilots:port": "not the address of a scheduler",
    "tcp://127.0.0.1": "not the address of a scheduler",
    "file:///etc/hosts": "not the address of a scheduler",
    "inproc://127.0.0.1:1": "not the address of a scheduler",
}


@pytest.mark.parametrize("word", ADDRESSES)
def test_addresses_that_may_be_used(word):
    assert checked_address(word, insecure=False) == ADDRESSES[word]


@pytest.mark.parametrize("word", REFUSED)
def test_addresses_that_are_refused(word):
    with pytest.raises(InputError, match=REFUSED[word]):
        checked_address(word, insecure=False)


def test_an_insecure_address_is_used_where_that_is_said():
    assert checked_address("tcp://192.0.2.7:1", insecure=True) == "tcp://192.0.2.7:1"


@pytest.mark.parametrize("word", ["local:0", "local:many", "local:", "local:-1", "local:100000"])
def test_numbers_of_workers_that_are_refused(word):
    with pytest.raises(InputError, match="number of workers"):
        local_size(word)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("explore", "--cluster", "local:2", "--workers", "2"), "choose one"),
        (("explore", "--insecure-cluster"), "--cluster, which is not given"),
        (("trial", "--order", "early late", "--cluster", "local:1"), "run here"),
        (("explore", "--cluster", "127.0.0.1:1"), "no scheduler answers"),
        (("explore", "--cluster", "tcp://192.0.2.7:1"), "--insecure-cluster"),
        (("explore", "--cluster", "tls://127.0.0.1:1"), "Dask has no certificates here"),
    ],
)
def test_calls_that_cannot_be_meant(run, words, said):
    needs("postgresql")
    command, *options = words
    done = run(command, "berth-swap", *options)
    assert done.code in (2, 3)
    assert said in done.err


def test_a_password_does_not_travel(run, own_server):
    url = own_server.url("master")
    done = run("explore", "berth-swap", "--cluster", "local:1", "--target", url)
    assert done.code == 2
    assert "would travel to the workers" in done.err
    assert "PGPASSWORD" in done.err
    assert "secret-word" not in done.err.replace(url, "")


@pytest.mark.soak
def test_workers_share_a_server_whose_password_they_have_themselves(run, own_server):
    url = own_server.url("master").replace(":secret-word", "")
    environment = {**os.environ, "PGPASSWORD": "secret-word"}
    words = ("explore", "berth-swap", "--json", "--target", url)
    here = run(*words, env=environment)
    there = run(*words, "--cluster", "local:2", env=environment)
    assert results(here) == results(there)
    assert "2 workers, all on postgresql://" in there.err
    with psycopg.connect(own_server.url("master")) as connection:
        query = "select count(*) from pg_namespace where nspname like 'catenum%'"
        assert connection.execute(query).fetchone() == (0,)


def test_local_workers_end_with_the_command(tmp_path):
    needs("postgresql")
    with machine() as made:
        done = made.run("explore", "berth-swap", "--json", "--cluster", "local:2")
        assert results(done)
        until(lambda: not made.servers(), "no server is left")
        assert not [one for one in os.listdir("/tmp") if one == "dask-worker-space"]
