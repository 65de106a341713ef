"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from pathlib import Path

from catenum.engines.innodb.control import InnodbControl


class InnodbLoops(InnodbControl):
    """See ``engines.ports.loops.Loops`` for what each method promises."""

    def loop_place(self) -> dict[str, object]:
        """PyMySQL's arguments and the database."""
        self._loops = True
        self._learned = False
        return {"where": self._theirs, "schema": self.schema, "run": self.run}

    def waiting_now(self) -> int | None:
        """The server counts waits itself."""
        return None

    def server_process(self) -> int | None:
        """By the file in which the server keeps its number."""
        if not self.info.private:
            return None
        with self._translated():
            path = str(self.query("select @@global.pid_file")[0][0])
        try:
            return int(Path(path).read_text(encoding="ascii"))
        except (OSError, ValueError):
            return None

    def wait_count(self) -> int | None:
        """InnoDB's own counter of row lock waits."""
        with self._translated():
            return int(self.query("show global status like 'Innodb_row_lock_waits'")[0][1])
