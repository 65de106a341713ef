"""What private servers of MariaDB and MySQL share: places, how they are asked, how they are
stopped.
"""

from __future__ import annotations

import re
import signal
import subprocess
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

from catenum.core.errors import TargetError
from catenum.engines.private.programs import Owner

_SPACES = (
    "select schema_name from information_schema.schemata where schema_name regexp"
    " '^catenum_[0-9a-f]{8}'"
)
_LOGINS = "select user from mysql.user where user regexp '^catenum_[0-9a-f]{8}'"


@dataclass(frozen=True)
class InnodbRecipe(ABC):
    """The commands for one set of server programs."""

    programs: Path
    owner: Owner

    server: ClassVar[str]
    name: ClassVar[str]
    program: ClassVar[str]
    #: The program with which a person connects.
    client_program: ClassVar[str]
    #: What the server is started with.
    settings: ClassVar[Sequence[str]]
    #: What ends the server, the gentlest first; the first is also what the kernel sends when
    #: Catenum dies.
    stop_signals: ClassVar[tuple[signal.Signals, ...]] = (signal.SIGTERM, signal.SIGKILL)

    @abstractmethod
    def program_words(self) -> list[str]:
        """What runs the program, with the places of its own files where its packages were
        unpacked.
        """

    @property
    def version(self) -> str:
        """The version as the program itself tells it, such as ``10.11.19``."""
        reported = subprocess.run(
            [*self.program_words(), "--version"], capture_output=True, text=True, check=False
        )
        found = re.search(r"Ver (\d+\.\d+\.\d+)", reported.stdout)
        if reported.returncode != 0 or not found:
            raise TargetError(
                f"{self.programs / self.program} does not run:"
                f" {reported.stderr.strip() or reported.stdout.strip()}"
            )
        return found[1]

    def command(
        self, data: Path, sockets: Path, settings: Mapping[str, str] | None = None
    ) -> list[str]:
        """The command line of the server."""
        places = [
            f"--datadir={data}",
            f"--socket={sockets / 'server.sock'}",
            f"--pid-file={self.pid_file(data)}",
        ]
        # Temporary files of servers that share a folder have the same names: one removes what the
        # other works on.
        places.append(f"--tmpdir={sockets}")
        own = [f"--{name.replace('_', '-')}={value}" for name, value in (settings or {}).items()]
        return [*self.program_words(), *places, *self.settings, *own]

    def pid_file(self, data: Path) -> Path:
        """Where the running server leaves its process number, in the first line."""
        return data / "server.pid"

    def is_ready(self, data: Path, sockets: Path) -> bool:
        """Whether the server takes connections."""
        return (
            (sockets / "server.sock").exists()
            and self.pid_file(data).exists()
            and self.answers(sockets)
        )

    def answers(self, sockets: Path) -> bool:
        """Whether a server on ``sockets`` lets us in."""
        import pymysql  # only a server that is being started needs its driver

        try:
            pymysql.connect(
                unix_socket=str(sockets / "server.sock"),
                user="root",
                connect_timeout=2,
                ssl_disabled=True,
            ).close()
        except (pymysql.Error, OSError):
            return False
        return True

    def leftovers(self, sockets: Path) -> list[str]:
        """What of runs is left: scratch spaces, logins, prepared transactions; empty where it does
        not answer.
        """
        import pymysql

        from catenum.engines.innodb.prepared import xids

        try:
            where: dict[str, Any] = {
                **self.where(sockets),
                "connect_timeout": 2,
                "ssl_disabled": True,
            }
            with pymysql.connect(**where) as connection:

                def query(sql: str) -> list[tuple[Any, ...]]:
                    with connection.cursor() as cursor:
                        cursor.execute(sql)
                        return list(cursor.fetchall())

                found = [f"database {name}" for (name,) in query(_SPACES)]
                found += [f"login {name}" for (name,) in query(_LOGINS)]
                return [*found, *(f"prepared transaction {xid}" for xid in xids(query))]
        except (pymysql.Error, OSError):
            return []

    def where(self, sockets: Path) -> dict[str, object]:
        """What the engine connects with: as root and without a password, since only the server's
        user can get at it.
        """
        return {"unix_socket": str(sockets / "server.sock"), "user": "root"}

    def client(self, sockets: Path) -> str:
        """The command with which a person connects."""
        return f"{self.client_program} -u root -S {sockets / 'server.sock'}"

    def furnish(self, sockets: Path) -> None:  # noqa: B027 - there is nothing that either must add
        """Nothing to add to a new data directory."""
