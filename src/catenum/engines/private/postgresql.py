"""How a private PostgreSQL server is made and started: the only place that knows its programs'
arguments.
"""

from __future__ import annotations

import signal
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import psycopg

from catenum.core.errors import TargetError
from catenum.engines.private.programs import Owner, make_data

USER = "catenum"
DATABASE = "marrowgate"

#: Nothing here outlives the run, so nothing is made durable; nothing runs by itself, so runs
#: repeat.
SERVER_SETTINGS = (
    "listen_addresses=",
    "unix_socket_permissions=0700",
    "fsync=off",
    "synchronous_commit=off",
    "full_page_writes=off",
    "autovacuum=off",
    "max_connections=200",
    "shared_buffers=32MB",
    "max_wal_size=256MB",
    "jit=off",
    "track_activity_query_size=16kB",
    "timezone=UTC",
    "log_timezone=UTC",
)


_LEFTOVERS = """
select 'schema ' || nspname from pg_catalog.pg_namespace where nspname ~ '^catenum_[0-9a-f]{8}'
union all select 'role ' || rolname from pg_catalog.pg_roles where rolname ~ '^catenum_[0-9a-f]{8}'
union all select 'large object ' || oid from pg_catalog.pg_largeobject_metadata
union all select 'prepared transaction ' || gid from pg_catalog.pg_prepared_xacts
"""


@dataclass(frozen=True)
class PostgresqlRecipe:
    """The commands for one set of server programs."""

    programs: Path
    owner: Owner
    server: str = "postgresql"
    name: str = "PostgreSQL"
    program: str = "postgres"

    #: What ends the server, the gentlest first; the first is also what the kernel sends when
    #: Catenum dies.
    stop_signals: tuple[signal.Signals, ...] = (signal.SIGINT, signal.SIGQUIT, signal.SIGKILL)

    @property
    def version(self) -> str:
        """The version as the program itself tells it, such as ``15.18``."""
        reported = subprocess.run(
            [self.programs / "postgres", "--version"], capture_output=True, text=True, check=False
        )
        words = reported.stdout.split()
        if reported.returncode != 0 or len(words) < 3:
            raise TargetError(
                f"{self.programs / 'postgres'} does not run:"
                f" {reported.stderr.strip() or reported.stdout.strip()}"
            )
        return words[2]

    def initialise(self, data: Path) -> None:
        """Make a data directory. Raises TargetError with the program's own message where that
        fails.
        """
        command: list[str | Path] = [
            self.programs / "initdb",
            "-D",
            data,
            "-U",
            USER,
            "--auth=trust",
            "--no-sync",
            "--locale=C",
            "-E",
            "UTF8",
        ]
        make_data(command, data, self.owner)

    def command(
        self, data: Path, sockets: Path, settings: Mapping[str, str] | None = None
    ) -> list[str]:
        """The command line of the server."""
        every = [*SERVER_SETTINGS, *(f"{name}={value}" for name, value in (settings or {}).items())]
        words = [part for setting in every for part in ("-c", setting)]
        return [str(self.programs / "postgres"), "-D", str(data), "-k", str(sockets), *words]

    def pid_file(self, data: Path) -> Path:
        """Where the running server leaves its process number, in the first line."""
        return data / "postmaster.pid"

    def is_ready(self, data: Path, sockets: Path) -> bool:
        """Whether the server says in its pid file that it takes connections."""
        try:
            return "ready" in self.pid_file(data).read_text().splitlines()[-1]
        except (OSError, IndexError):
            return False

    def answers(self, sockets: Path) -> bool:
        """Whether a server on ``sockets`` lets us in."""
        try:
            psycopg.connect(self.conninfo(sockets), connect_timeout=2).close()
        except psycopg.Error:
            return False
        return True

    def is_made(self, data: Path) -> bool:
        """Whether there is a data directory."""
        return (data / "PG_VERSION").exists()

    def conninfo(self, sockets: Path) -> str:
        """How to connect to a server on ``sockets``."""
        return f"host={sockets} user={USER} dbname={DATABASE}"

    def where(self, sockets: Path) -> str:
        """What the engine connects with."""
        return self.conninfo(sockets)

    def leftovers(self, sockets: Path) -> list[str]:
        """What of runs is left: schemas, roles, large objects, prepared transactions; empty without
        an answer.
        """
        try:
            with psycopg.connect(self.conninfo(sockets), connect_timeout=2) as connection:
                return [str(name) for (name,) in connection.execute(_LEFTOVERS).fetchall()]
        except psycopg.Error:
            return []

    def client(self, sockets: Path) -> str:
        """The command with which a person connects."""
        return f"psql '{self.conninfo(sockets)}'"

    def furnish(self, sockets: Path) -> None:
        """Make the database of a new data directory, with the means to read row locks where they
        are available.
        """
        with psycopg.connect(
            f"host={sockets} user={USER} dbname=postgres", autocommit=True
        ) as first:
            first.execute(f"create database {DATABASE}".encode())
        with psycopg.connect(self.conninfo(sockets), autocommit=True) as connection:
            found = connection.execute(
                "select 1 from pg_available_extensions where name = 'pgrowlocks'"
            ).fetchone()
            if found:
                connection.execute("create extension pgrowlocks")


Recipe = PostgresqlRecipe
