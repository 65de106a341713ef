"""How a private MariaDB server is made and started: the only place that knows its programs' arguments."""

from __future__ import annotations

import os
import re
import signal
import subprocess
from dataclasses import dataclass
from pathlib import Path

from catenum.core.errors import TargetError
from catenum.engines.private.programs import Owner, loader_of, make_data

#: Nothing here outlives the run, so nothing is made durable; every lock is reported, metadata locks too.
SERVER_SETTINGS = (
    "--skip-networking",
    # no "data directory" and no "index directory": a table may lie nowhere but in the server's own folder
    "--skip-symbolic-links",
    "--skip-log-bin",
    "--innodb-flush-log-at-trx-commit=0",
    "--innodb-doublewrite=OFF",
    "--innodb-buffer-pool-size=64M",
    "--innodb-log-file-size=32M",
    "--innodb-status-output-locks=ON",
    "--innodb-stats-persistent=ON",
    "--innodb-stats-auto-recalc=OFF",
    "--plugin-load-add=metadata_lock_info",
    # of the performance schema only the list of metadata locks, which alone tells what a session waits for
    "--performance-schema=ON",
    "--performance-schema-instrument=%=OFF",
    "--performance-schema-instrument=wait/lock/metadata/sql/mdl=ON",
    "--performance-schema-consumer-global-instrumentation=ON",
    "--max-connections=250",
    "--character-set-server=utf8mb4",
    "--default-time-zone=+00:00",
)


#: What makes a data directory's own tables, in this order.
_SCRIPTS = (
    "mariadb_system_tables.sql",
    "mariadb_performance_tables.sql",
    "mariadb_system_tables_data.sql",
    "maria_add_gis_sp_bootstrap.sql",
    "mariadb_sys_schema.sql",
)


@dataclass(frozen=True)
class MariadbRecipe:
    """The commands for one set of server programs."""

    programs: Path
    owner: Owner
    server: str = "mariadb"
    name: str = "MariaDB"
    program: str = "mariadbd"

    #: What ends the server, the gentlest first; the first is also what the kernel sends when Catenum dies.
    stop_signals: tuple[signal.Signals, ...] = (signal.SIGTERM, signal.SIGKILL)

    @property
    def version(self) -> str:
        """The version as the program itself tells it, such as ``10.11.19``."""
        told = subprocess.run([*self.program_words(), "--version"], capture_output=True, text=True, check=False)
        found = re.search(r"Ver (\d+\.\d+\.\d+)", told.stdout)
        if told.returncode != 0 or not found:
            raise TargetError(
                f"{self.programs / self.program} does not run: {told.stderr.strip() or told.stdout.strip()}"
            )
        return found[1]

    def initialise(self, data: Path) -> None:
        """Make a data directory. Raises TargetError with the program's own message where that fails."""
        if loader_of(self.programs):
            self._bootstrap(data)
            return
        places = (self.programs / "mariadb-install-db", self.programs.parent / "bin" / "mariadb-install-db")
        program = next((place for place in places if place.is_file()), places[0])
        command = [
            str(program), "--no-defaults", f"--datadir={data}", "--auth-root-authentication-method=normal",
            "--skip-test-db", "--skip-name-resolve", "--innodb-log-file-size=32M",
        ]  # fmt: skip
        make_data(command, data, self.owner)

    def _bootstrap(self, data: Path) -> None:
        """As that program does, which cannot start a server through a loader."""
        folders = [self.programs.parent / "share" / name for name in ("mariadb", "mysql")]
        scripts = next(folder for folder in folders if (folder / _SCRIPTS[0]).is_file())
        lines = ["create database if not exists mysql;", "use mysql;", "set @auth_root_socket = null;"]
        lines += ["set @skip_auth_anonymous = 1;", *((scripts / name).read_text() for name in _SCRIPTS)]
        data.mkdir()
        if self.owner.drop:
            os.chown(data, self.owner.uid, self.owner.gid)
        made = subprocess.run(
            [
                *self.program_words(),
                "--bootstrap",
                f"--datadir={data}",
                "--innodb-log-file-size=32M",
                "--skip-grant-tables",
            ],
            input="\n".join(lines),
            capture_output=True,
            text=True,
            check=False,
            cwd="/",
            **self.owner.popen,  # type: ignore[call-overload]
        )
        if made.returncode != 0:
            told = " ".join(made.stderr.strip().splitlines()[-2:])
            raise TargetError(f"{self.program} could not make {data}: {told}")

    def command(self, data: Path, sockets: Path) -> list[str]:
        """The command line of the server."""
        places = [f"--datadir={data}", f"--socket={sockets / 'server.sock'}", f"--pid-file={self.pid_file(data)}"]
        # Temporary files of servers that share a folder have the same names: one removes what the other works on.
        places.append(f"--tmpdir={sockets}")
        return [*self.program_words(), *places, *SERVER_SETTINGS]

    def program_words(self) -> list[str]:
        """What runs the program, with the places of its own files where its packages were unpacked."""
        loader, root = loader_of(self.programs), self.programs.parent
        own = [f"--basedir={root}", f"--lc-messages-dir={root}/share/mysql", f"--plugin-dir={root}/lib/mysql/plugin"]
        return [*loader, str(self.programs / self.program), "--no-defaults", *(own if loader else ())]

    def pid_file(self, data: Path) -> Path:
        """Where the running server leaves its process number, in the first line."""
        return data / "server.pid"

    def is_made(self, data: Path) -> bool:
        """Whether there is a data directory."""
        return (data / "mysql").is_dir()

    def is_ready(self, data: Path, sockets: Path) -> bool:
        """Whether the server takes connections."""
        return (sockets / "server.sock").exists() and self.pid_file(data).exists() and self.answers(sockets)

    def answers(self, sockets: Path) -> bool:
        """Whether a server on ``sockets`` lets us in."""
        import pymysql  # only a server that is being started needs its driver

        try:
            pymysql.connect(
                unix_socket=str(sockets / "server.sock"), user="root", connect_timeout=2, ssl_disabled=True
            ).close()
        except (pymysql.Error, OSError):
            return False
        return True

    def where(self, sockets: Path) -> dict[str, object]:
        """What the engine connects with: as root and without a password, since only the server's user can get at it."""
        return {"unix_socket": str(sockets / "server.sock"), "user": "root"}

    def client(self, sockets: Path) -> str:
        """The command with which a person connects."""
        return f"mariadb -u root -S {sockets / 'server.sock'}"

    def furnish(self, sockets: Path) -> None:
        """Nothing to add to a new data directory."""


Recipe = MariadbRecipe
