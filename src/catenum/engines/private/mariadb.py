"""How a private MariaDB server is made and started: the only place that knows its programs'
arguments.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
from pathlib import Path

from catenum.core.errors import TargetError
from catenum.engines.private.innodb import InnodbRecipe
from catenum.engines.private.programs import loader_of, make_data

#: Nothing here outlives the run, so nothing is made durable; every lock is reported, metadata locks
#: too.
SERVER_SETTINGS = (
    "--skip-networking",
    # no "data directory" and no "index directory": a table may lie nowhere but in the server's own
    # folder
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
    # of the performance schema only the list of metadata locks, which alone tells what a session
    # waits for
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


class MariadbRecipe(InnodbRecipe):
    """See ``InnodbRecipe``."""

    server, name, program, client_program = "mariadb", "MariaDB", "mariadbd", "mariadb"
    settings = SERVER_SETTINGS

    def initialise(self, data: Path) -> None:
        """Make a data directory. Raises TargetError with the program's own message where that
        fails.
        """
        # What makes it is a server, too, and clears a shared folder of temporary tables, which may
        # be another's.
        with tempfile.TemporaryDirectory(
            prefix="making-", dir=data.parent, ignore_cleanup_errors=True
        ) as own:
            if self.owner.drop:
                os.chown(own, self.owner.uid, self.owner.gid)
            self._make(data, f"--tmpdir={own}")

    def _make(self, data: Path, temporary: str) -> None:
        if loader_of(self.programs):
            self._bootstrap(data, temporary)
            return
        places = (
            self.programs / "mariadb-install-db",
            self.programs.parent / "bin" / "mariadb-install-db",
        )
        program = next((place for place in places if place.is_file()), places[0])
        command = [
            str(program),
            "--no-defaults",
            f"--datadir={data}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
            "--skip-name-resolve",
            "--innodb-log-file-size=32M",
            temporary,
        ]
        make_data(command, data, self.owner)

    def _bootstrap(self, data: Path, temporary: str) -> None:
        """As that program does, which cannot start a server through a loader."""
        folders = [self.programs.parent / "share" / name for name in ("mariadb", "mysql")]
        scripts = next(folder for folder in folders if (folder / _SCRIPTS[0]).is_file())
        lines = [
            "create database if not exists mysql;",
            "use mysql;",
            "set @auth_root_socket = null;",
        ]
        lines += [
            "set @skip_auth_anonymous = 1;",
            *((scripts / name).read_text() for name in _SCRIPTS),
        ]
        data.mkdir()
        if self.owner.drop:
            os.chown(data, self.owner.uid, self.owner.gid)
        made = subprocess.run(
            [
                *self.program_words(),
                "--bootstrap",
                f"--datadir={data}",
                "--innodb-log-file-size=32M",
                temporary,
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
            reported = " ".join(made.stderr.strip().splitlines()[-2:])
            raise TargetError(f"{self.program} could not make {data}: {reported}")

    def program_words(self) -> list[str]:
        """What runs the program, with the places of its own files where its packages were
        unpacked.
        """
        loader, root = loader_of(self.programs), self.programs.parent
        own = [
            f"--basedir={root}",
            f"--lc-messages-dir={root}/share/mysql",
            f"--plugin-dir={root}/lib/mysql/plugin",
        ]
        return [
            *loader,
            str(self.programs / self.program),
            "--no-defaults",
            *(own if loader else ()),
        ]

    def is_made(self, data: Path) -> bool:
        """Whether there is a data directory."""
        return (data / "mysql").is_dir()


Recipe = MariadbRecipe
