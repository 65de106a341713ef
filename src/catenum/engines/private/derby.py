"""How a private Apache Derby is started: its network server on a port of this machine alone, with
its own folder, and logins whose passwords are of this run.
"""

from __future__ import annotations

import os
import re
import secrets
import shlex
import signal
import socket
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from catenum.core.errors import TargetError
from catenum.core.servers import profile_of
from catenum.engines.by_profile.driver import Database, Place
from catenum.engines.private.programs import Owner, java_program

HOST, DATABASE, OWNER, LOGIN = "127.0.0.1", "marrowgate", "catenum", "harbour"
#: Nothing here outlives the run, so nothing is made durable; a closed cycle is looked for at once.
SETTINGS = {
    "derby.system.durability": "test",
    "derby.locks.deadlockTimeout": "0",
    "derby.locks.waitTimeout": "60",
    "derby.storage.rowLocking": "true",
}
#: Who may connect.
LOGINS = {
    "derby.connection.requireAuthentication": "true",
    "derby.authentication.provider": "BUILTIN",
}


@dataclass(frozen=True)
class DerbyRecipe:
    """The commands for one folder of classes."""

    programs: Path
    owner: Owner
    server: str = "derby"
    name: str = "Apache Derby"
    program: str = "java"

    #: What ends the server, the gentlest first.
    stop_signals: tuple[signal.Signals, ...] = (signal.SIGTERM, signal.SIGKILL)

    @property
    def _java(self) -> str:
        found = java_program()
        if found is None:
            raise TargetError("no Java on this machine any more")
        return found

    @property
    def _major(self) -> int:
        found = subprocess.run(
            [self._java, "-version"], capture_output=True, text=True, check=False
        )
        number = re.search(r'version "(?:1\.)?(\d+)', found.stderr + found.stdout)
        return int(number[1]) if number else 0

    @property
    def version(self) -> str:
        """The version as the name of its classes tells it, such as ``10.14.2.0``."""
        found = re.search(r"derby-(\d[\d.]*\d)\.jar", (self.programs / "derby.jar").resolve().name)
        return found[1] if found else "10"

    def initialise(self, data: Path) -> None:
        """A folder; the database is made by the first connection."""
        data.mkdir()
        if self.owner.drop:
            os.chown(data, self.owner.uid, self.owner.gid)

    def command(
        self, data: Path, sockets: Path, settings: Mapping[str, str] | None = None
    ) -> list[str]:
        """The command line of the server. The passwords stand in a file that only it may read."""
        with socket.socket() as free:
            free.bind((HOST, 0))
            port = free.getsockname()[1]
        words = {who: secrets.token_urlsafe(18) for who in (OWNER, LOGIN)}
        self._write(sockets / "port", str(port))
        for who, word in words.items():
            self._write(sockets / f"{who}.password", word)
        logins = {**LOGINS, **{f"derby.user.{who}": word for who, word in words.items()}}
        lines = [f"{name}={value}" for name, value in logins.items()]
        self._write(data / "derby.properties", "\n".join(lines) + "\n")
        every = {**SETTINGS, **(settings or {})}
        # a second wall: Java code that a statement reaches may neither end the server nor read
        # files; later ones have none (JEP 486)
        guarded = self._major < 24
        classes = ":".join(str(self.programs / name) for name in ("derby.jar", "derbynet.jar"))
        java = [
            self._java,
            "-Xmx512m",
            f"-Djava.io.tmpdir={sockets}",
            f"-Dderby.system.home={data}",
            f"-Dderby.stream.error.file={data / 'derby.log'}",
            *(["-Djava.security.manager=allow"] if guarded and self._major >= 17 else []),
            *(f"-D{name}={value}" for name, value in every.items()),
            "-cp",
            classes,
            "org.apache.derby.drda.NetworkServerControl",
            "start",
            "-h",
            HOST,
            "-p",
            str(port),
            *([] if guarded else ["-noSecurityManager"]),
        ]
        note = shlex.quote(str(self.pid_file(data)))
        # Java cannot say where it runs, and writes no number of its process
        script = f"cd {shlex.quote(str(data))} && echo $$ > {note} && exec {shlex.join(java)}"
        return ["/bin/sh", "-c", script]

    def _write(self, path: Path, text: str) -> None:
        path.unlink(missing_ok=True)
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
            file.write(text)
        if self.owner.drop:
            os.chown(path, self.owner.uid, self.owner.gid)

    def pid_file(self, data: Path) -> Path:
        """Where the running server has its process number."""
        return data / "server.pid"

    def is_ready(self, data: Path, sockets: Path) -> bool:
        """Whether the server takes connections."""
        return self.pid_file(data).exists() and self.answers(sockets)

    def answers(self, sockets: Path) -> bool:
        """Whether somebody listens on its port."""
        try:
            port = int((sockets / "port").read_text())
            socket.create_connection((HOST, port), timeout=2).close()
        except (OSError, ValueError):
            return False
        return True

    def is_made(self, data: Path) -> bool:
        """Whether there is a folder."""
        return data.is_dir()

    def where(self, sockets: Path) -> Any:
        """The profile, and where to connect with which logins."""
        return profile_of("derby"), self._place(sockets)

    def _place(self, sockets: Path) -> Place:
        return Place(
            host=HOST,
            port=int((sockets / "port").read_text()),
            database=DATABASE,
            user=OWNER,
            password=(sockets / f"{OWNER}.password").read_text(),
            options=(("create", "true"),),
            login=LOGIN,
            login_password=(sockets / f"{LOGIN}.password").read_text(),
        )

    def client(self, sockets: Path) -> str:
        """The command with which a person connects."""
        port = (sockets / "port").read_text()
        where = f"jdbc:derby://{HOST}:{port}/{DATABASE};user={OWNER};password=…"
        return f"ij, then: connect '{where}'; the password: {sockets / f'{OWNER}.password'}"

    def furnish(self, sockets: Path) -> None:
        """Nothing to add."""

    def leftovers(self, sockets: Path) -> list[str]:
        """What of runs is left: schemas; empty without an answer."""
        profile = profile_of("derby")
        if profile is None or not self.answers(sockets):
            return []
        try:
            connection = Database(profile, "local:derby").connect(self._place(sockets))
            cursor = connection.cursor()
            cursor.execute(profile.scratch.left)
            found = [f"schema {row[0]}" for row in cursor.fetchall()]
            connection.rollback()
            connection.close()
        except Exception:  # whatever a driver raises
            return []
        return found


Recipe = DerbyRecipe
