"""How a private MySQL server is made and started: the only place that knows its programs' arguments."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shutil
import signal
import subprocess
from dataclasses import dataclass
from pathlib import Path

from catenum.core.errors import TargetError
from catenum.engines.private.programs import Owner, cache_folder, loader_of, make_data

#: What a data directory is made with; the log of changes is as small as it can be, since the directory is copied.
DATA_SETTINGS = (
    "--innodb-flush-log-at-trx-commit=0",
    "--innodb-doublewrite=OFF",
    "--loose-innodb-redo-log-capacity=8M",
)
#: Nothing here outlives the run, so nothing is made durable; nothing runs by itself, so runs repeat.
SERVER_SETTINGS = (
    *DATA_SETTINGS,
    "--skip-networking",
    "--loose-mysqlx=OFF",
    "--skip-name-resolve",
    "--secure-file-priv=NULL",
    "--disable-log-bin",
    "--event-scheduler=OFF",
    "--innodb-buffer-pool-size=64M",
    # data is put back by TRUNCATE: a third of the time without a file of its own for each table, and without fsync
    "--innodb-file-per-table=OFF",
    "--innodb-flush-method=nosync",
    "--innodb-stats-persistent=ON",
    "--innodb-stats-auto-recalc=OFF",
    "--innodb-use-native-aio=OFF",
    "--max-connections=250",
    "--character-set-server=utf8mb4",
    "--default-time-zone=+00:00",
)


@dataclass(frozen=True)
class MysqlRecipe:
    """The commands for one set of server programs."""

    programs: Path
    owner: Owner
    server: str = "mysql"
    name: str = "MySQL"
    program: str = "mysqld"

    #: What ends the server, the gentlest first; the first is also what the kernel sends when Catenum dies.
    stop_signals: tuple[signal.Signals, ...] = (signal.SIGTERM, signal.SIGKILL)

    @property
    def version(self) -> str:
        """The version as the program itself tells it, such as ``9.7.4``."""
        told = subprocess.run([*self.program_words(), "--version"], capture_output=True, text=True, check=False)
        found = re.search(r"Ver (\d+\.\d+\.\d+)", told.stdout)
        if told.returncode != 0 or not found:
            raise TargetError(
                f"{self.programs / self.program} does not run: {told.stderr.strip() or told.stdout.strip()}"
            )
        return found[1]

    def program_words(self) -> list[str]:
        """What runs the program, with the places of its own files where its packages were unpacked."""
        loader, root = loader_of(self.programs), self.programs.parent
        places = [
            f"--basedir={root}",
            f"--lc-messages-dir={root}/share/mysql",
            f"--character-sets-dir={root}/share/mysql/charsets",
            "--secure-file-priv=NULL",
        ]
        return [*loader, str(self.programs / self.program), "--no-defaults", *(places if loader else ())]

    def initialise(self, data: Path) -> None:
        """A copy of a directory that is made once, for it takes seconds to make.

        Raises TargetError with the program's own message where that fails.
        """
        which = hashlib.sha256(f"{self.programs} {self.version}".encode()).hexdigest()[:6]
        ready = cache_folder(self.owner) / f"mysql-ready-{which}"
        if not self.is_made(ready):
            for left in ready.parent.glob(f"{ready.name}.*"):  # by one that was killed while making it
                if not Path("/proc", left.suffix[1:]).exists() or left.suffix == f".{os.getpid()}":
                    shutil.rmtree(left, ignore_errors=True)
            making = ready.with_suffix(f".{os.getpid()}")
            make_data(
                [*self.program_words(), "--initialize-insecure", f"--datadir={making}", *DATA_SETTINGS],
                making,
                self.owner,
            )
            (making / "auto.cnf").unlink(missing_ok=True)  # who the server is: each copy is another
            with contextlib.suppress(OSError):  # another was quicker
                making.rename(ready)
            shutil.rmtree(making, ignore_errors=True)
        shutil.copytree(ready, data)
        if self.owner.drop:
            for path in (data, *data.rglob("*")):
                os.chown(path, self.owner.uid, self.owner.gid)

    def command(self, data: Path, sockets: Path) -> list[str]:
        """The command line of the server."""
        places = [f"--datadir={data}", f"--socket={sockets / 'server.sock'}", f"--pid-file={self.pid_file(data)}"]
        # Temporary files of servers that share a folder have the same names: one removes what the other works on.
        places.append(f"--tmpdir={sockets}")
        return [*self.program_words(), *places, *SERVER_SETTINGS]

    def pid_file(self, data: Path) -> Path:
        """Where the running server leaves its process number, in the first line."""
        return data / "server.pid"

    def is_made(self, data: Path) -> bool:
        """Whether there is a data directory."""
        return (data / "mysql.ibd").is_file()

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
        return f"mysql -u root -S {sockets / 'server.sock'}"

    def furnish(self, sockets: Path) -> None:
        """Nothing to add to a new data directory."""


Recipe = MysqlRecipe
