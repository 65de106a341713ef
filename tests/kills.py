"""Commands killed outright (SIGKILL) at chance moments, and what the next command leaves of them:
nothing.

python tests/kills.py --count 50

For each way of working (play, explore with one worker and with two, churn, trial, watch, local), on
each server: starts the command in a session of its own, kills it (alone) after a chance part of the
time that it takes, runs one more command, and looks for processes and socket folders; on a kept
server, for schemas, databases and logins. Exit code 1: something was left.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg

from catenum.core.servers import NATIVE
from catenum.engines.private.programs import cache_folder, server_owner
from conftest import over_socket

SCRIPT = Path(sys.executable).with_name("catenum")
WAYS: dict[str, list[str]] = {
    "play": ["play", "{sample}"],
    "explore": ["explore", "{sample}"],
    "explore, two workers": ["explore", "{sample}", "--workers", "2"],
    "churn": ["churn", "{sample}", "--for", "1s"],
    "trial": ["trial", "{sample}"],
    "local": ["local", "start"],
    "play, kept server": ["play", "{sample}"],
    "explore, kept server": ["explore", "{sample}", "--workers", "2"],
    "watch, kept server": ["watch", "--for", "4s", "--store", "{store}"],
}


def processes_of(folder: Path) -> list[int]:
    """Processes whose working directory lies in ``folder``, or that name it on their command line."""
    found = []
    for entry in Path("/proc").iterdir():
        with contextlib.suppress(OSError):
            inside = entry.name.isdigit() and (
                (entry / "cwd").resolve().is_relative_to(folder)
                or str(folder).encode() in (entry / "cmdline").read_bytes()
            )
            if inside and b"Z" not in (entry / "stat").read_bytes().rsplit(b")", 1)[1][:3]:
                found.append(int(entry.name))
    return found


def named_in(server: str, sockets: str) -> set[str]:
    """Schemas, databases and logins of a server."""
    if server == "postgresql":
        with psycopg.connect(f"host={sockets} user=catenum dbname=marrowgate") as db:
            return {
                name
                for (name,) in db.execute(
                    "select nspname from pg_namespace union select rolname from pg_roles"
                )
            }
    with (
        over_socket(unix_socket=f"{sockets}/server.sock", user="root") as maria,
        maria.cursor() as cursor,
    ):
        cursor.execute(
            "select schema_name from information_schema.schemata union select user from mysql.user"
        )
        return {name for (name,) in cursor.fetchall()}


def kills() -> int:
    """Run, and say what came of it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=50)
    parser.add_argument("--server", choices=NATIVE, action="append")
    parser.add_argument("--way", choices=list(WAYS), action="append")
    args = parser.parse_args()
    chance = random.Random(1)
    bad = 0
    for server in args.server or NATIVE:
        base = Path(tempfile.mkdtemp(prefix="catenum-kills-"))
        base.chmod(0o755)
        (base / "tmp").mkdir(mode=0o777)
        (base / "tmp").chmod(0o1777)
        environment = {
            **os.environ,
            "CATENUM_CACHE": str(base / "cache"),
            "TMPDIR": str(base / "tmp"),
        }
        unpacked = cache_folder(server_owner()) / "mysql-programs" / "usr" / "sbin"
        if (unpacked / "mysqld").is_file():  # in the cache that is not this one
            environment.setdefault("CATENUM_MYSQL_PROGRAMS", str(unpacked))

        def run(*words: str, env: dict[str, str] = environment) -> subprocess.CompletedProcess[str]:
            return subprocess.run(
                [str(SCRIPT), *words], env=env, capture_output=True, text=True, check=False
            )

        target = ["--target", f"local:{server}"]
        for way in args.way or WAYS:
            kept = way.endswith("kept server")
            store = str(base / "store.sqlite")
            words = [word.format(sample="tug-upgrade", store=store) for word in WAYS[way]] + target
            nextly = (
                ["watch", "--for", "4s", "--store", store]
                if way.startswith("watch")
                else ["play", "tug-upgrade"]
            )
            before, sockets = set[str](), ""
            if kept:
                run("local", "start", *target)
                (shown,) = json.loads(run("local", "status", "--json", *target).stdout)["servers"]
                sockets = shown["sockets"]
                before = named_in(server, sockets)
            began = time.monotonic()
            run(*words)
            whole, clean = time.monotonic() - began, 0
            if not kept:
                run("local", "stop", *target)
            for turn in range(args.count):
                process = subprocess.Popen(
                    [str(SCRIPT), *words],
                    env=environment,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    start_new_session=True,
                )
                time.sleep(chance.uniform(0.02, whole))
                with contextlib.suppress(ProcessLookupError):
                    os.kill(process.pid, signal.SIGKILL)
                process.wait()
                after = run(*nextly, "--quiet", *target)
                if way == "local":
                    run("local", "stop", *target)
                left = sorted(named_in(server, sockets) - before) if kept else []
                if left:  # a worker that was killed with its parent may be at clearing up
                    time.sleep(5)
                    left = sorted(named_in(server, sockets) - before)
                if not kept:
                    left = [str(pid) for pid in processes_of(base)] + os.listdir(base / "tmp")
                if left or after.returncode != (0 if way.startswith("watch") else 1):
                    reported = after.stderr.strip()[-300:]
                    print(
                        f"{server}, {way}, turn {turn}: left {left}, then {after.returncode} {reported}",
                        flush=True,
                    )
                    bad += 1
                else:
                    clean += 1
            if kept:
                run("local", "stop", *target)
            print(f"{server}, {way}: {clean} of {args.count} clean", flush=True)
        run("local", "stop", *target)
        shutil.rmtree(base, ignore_errors=True)
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(kills())
