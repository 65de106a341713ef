"""How a private MySQL server is made and started: the only place that knows its programs'
arguments.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
from pathlib import Path

from catenum.engines.private.innodb import InnodbRecipe
from catenum.engines.private.programs import cache_folder, loader_of, make_data

#: What a data directory is made with; the log of changes is as small as it can be, since the
#: directory is copied.
DATA_SETTINGS = (
    "--innodb-flush-log-at-trx-commit=0",
    "--innodb-doublewrite=OFF",
    "--loose-innodb-redo-log-capacity=8M",
)
#: Nothing here outlives the run, so nothing is made durable; nothing runs by itself, so runs
#: repeat.
SERVER_SETTINGS = (
    *DATA_SETTINGS,
    "--skip-networking",
    "--loose-mysqlx=OFF",
    "--skip-name-resolve",
    "--secure-file-priv=NULL",
    "--disable-log-bin",
    "--event-scheduler=OFF",
    "--innodb-buffer-pool-size=64M",
    # data is put back by TRUNCATE: a third of the time without a file of its own for each table,
    # and without fsync
    "--innodb-file-per-table=OFF",
    "--innodb-flush-method=nosync",
    "--innodb-stats-persistent=ON",
    "--innodb-stats-auto-recalc=OFF",
    "--innodb-use-native-aio=OFF",
    "--max-connections=250",
    "--character-set-server=utf8mb4",
    "--default-time-zone=+00:00",
)


class MysqlRecipe(InnodbRecipe):
    """See ``InnodbRecipe``."""

    server, name, program, client_program = "mysql", "MySQL", "mysqld", "mysql"
    settings = SERVER_SETTINGS

    def program_words(self) -> list[str]:
        """What runs the program, with the places of its own files where its packages were
        unpacked.
        """
        loader, root = loader_of(self.programs), self.programs.parent
        places = [
            f"--basedir={root}",
            f"--lc-messages-dir={root}/share/mysql",
            f"--character-sets-dir={root}/share/mysql/charsets",
            "--secure-file-priv=NULL",
        ]
        return [
            *loader,
            str(self.programs / self.program),
            "--no-defaults",
            *(places if loader else ()),
        ]

    def initialise(self, data: Path) -> None:
        """A copy of a directory that is made once, for it takes seconds to make.

        Raises TargetError with the program's own message where that fails.
        """
        which = hashlib.sha256(f"{self.programs} {self.version}".encode()).hexdigest()[:6]
        ready = cache_folder(self.owner) / f"mysql-ready-{which}"
        if not self.is_made(ready):
            for left in ready.parent.glob(
                f"{ready.name}.*"
            ):  # by one that was killed while making it
                if not Path("/proc", left.suffix[1:]).exists() or left.suffix == f".{os.getpid()}":
                    shutil.rmtree(left, ignore_errors=True)
            making = ready.with_suffix(f".{os.getpid()}")
            make_data(
                [
                    *self.program_words(),
                    "--initialize-insecure",
                    f"--datadir={making}",
                    *DATA_SETTINGS,
                ],
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

    def is_made(self, data: Path) -> bool:
        """Whether there is a data directory."""
        return (data / "mysql.ibd").is_file()


Recipe = MysqlRecipe
