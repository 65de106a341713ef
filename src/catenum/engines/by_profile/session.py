"""One transaction's connection. Drivers of the DB-API block, so each session has a thread, hidden
behind a pipe that tells of replies.
"""

from __future__ import annotations

import contextlib
import os
import queue
import re
import threading
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import NOTHING, Binding
from catenum.core.servers.profile import Profile
from catenum.engines.by_profile.driver import Database, kinds_of, text_of
from catenum.engines.fetching import Fetched, too_large
from catenum.engines.ports import Beginning, Begun, Patience, Reply

#: How a statement names its session, behind it.
MARK = re.compile(r"\s?/\*(catenum [0-9a-f]{8} \d+)\*/")
KEPT_ROWS = 50
#: How many rows a driver is asked for at once.
AT_ONCE = 200
#: A server that does not tell a session's number is not waited for longer (s).
ASKING_S = 5.0
_TO_SAVEPOINT = re.compile(r"(?i)\s*rollback\s+(?:work\s+)?to\b")


def first_line(message: str) -> str:
    """What a deadlock's message says before it tells the cycle."""
    return message.strip().splitlines()[0].rstrip(":")


class ProfileSession:
    """A connection with one transaction of the scenario on it.

    ``number`` is what the server calls it now; ``mark``, behind each statement, is how its views
    show whose that is, where the number does not stay.
    """

    def __init__(
        self,
        name: str,
        database: Database,
        connect: Callable[[], Any],
        mark: str,
        ends: Callable[[str, str], None] | None,
    ) -> None:
        """Begin to connect, while others do; the first use waits for it, and raises what
        ``connect`` raises. ``ends``: has the server end a statement, or a session, by its number.
        """
        self.name, self.mark, self._database, self._ends = name, mark, database, ends
        self._profile: Profile = database.profile
        self.connection: Any = None
        self._refused: BaseException | None = None
        self._lost = self._closed = False
        self._number = ""
        #: Set while what is known of the number is right.
        self._numbered = threading.Event()
        self._numbered.set()
        self.sql, self.values, self.sent = "", NOTHING, 0
        self.trail: tuple[tuple[str, Binding], ...] = ()
        self.trail_before: tuple[tuple[str, Binding], ...] = ()  # of the one that is over
        self.in_transaction = False
        self._each = self._asks = False
        self._limited = False
        self._level: str | None = None
        self._begun: Begun | None = None
        self._reply: Reply | None = None
        #: The last error's message, as the server wrote it.
        self.told = ""
        self.busy = False
        self._read, self._write = os.pipe()
        self._orders: queue.SimpleQueue[Callable[[], Reply | None] | None] = queue.SimpleQueue()
        self._worker = threading.Thread(target=self._work, name=f"catenum {name}", daemon=True)
        self._worker.start()
        self._connected = threading.Event()
        self._orders.put(lambda: self._connect(connect))

    def ready(self) -> None:
        """Wait until it is connected. Raises what connecting raised."""
        self._connected.wait()
        if self._refused is not None:
            raise self._refused

    @property
    def number(self) -> str:
        """The server's number of it, "" where it tells none; waits until it has been asked for."""
        self.ready()
        self._numbered.wait(ASKING_S)
        return self._number

    @property
    def id(self) -> str:
        """The server's number of it."""
        return self.number or self.name

    def fileno(self) -> int:
        """The end of a pipe that becomes readable with the reply."""
        return self._read

    # -- in the thread -----------------------------------------------------------------------------

    def _work(self) -> None:
        while (order := self._orders.get()) is not None:
            try:
                reply = order()
            except Exception as error:  # whatever a driver raises, in Java's words too
                reply = Reply(error=self._failed(error))
            if reply is None:  # it was nothing that anyone waits for
                continue
            asks, self._asks = self._asks and reply.error is None, False
            if asks:
                self._numbered.clear()
            self._reply = reply
            with contextlib.suppress(OSError):
                os.write(self._write, b".")
            if asks:  # behind the reply, so that others go on meanwhile
                with contextlib.suppress(Exception):  # the next statement tells of a lost session
                    self._ask_number()
                self._numbered.set()

    def _failed(self, error: Exception) -> ServerError:
        found = self._database.error_of(error)
        self.told = found.message
        message = MARK.sub("", found.message)
        if found.kind == "deadlock":  # what more it tells is the server's report
            message = first_line(message)
        found = replace(found, message=message)
        if self._lost and found.kind != "lost":
            return ServerError(code="", kind="lost", message="the session was ended")
        return found

    def _connect(self, connect: Callable[[], Any]) -> None:
        try:
            self.connection = connect()
            if self._profile.session.asked == "connect":
                self._ask_number()
                self._commit()
        except BaseException as error:
            self._refused = error
        self._connected.set()

    def run(self, sql: str) -> list[tuple[Any, ...]]:
        """One statement, and all its rows. In the thread, or before it has work."""
        cursor = self.connection.cursor()
        try:
            cursor.execute(sql)
            return [tuple(row) for row in cursor.fetchall()] if cursor.description else []
        finally:
            cursor.close()

    def _ask_number(self) -> None:
        sql = self._profile.session.number.replace("{mark}", self.mark)
        rows = self.run(sql)
        if len(rows) == 1:
            self._number = text_of(rows[0][0]) or ""

    def _commit(self) -> None:
        if not self._each:
            self.connection.commit()

    def _begin(self, how: Beginning) -> Reply:
        profile = self._profile
        levels = profile.levels
        lacking = self._not_said(how)
        if lacking is not None:
            what = f"{profile.title}'s profile does not say {lacking}"
            return Reply(error=ServerError(code="", kind="rejected", message=what))
        if how.autocommit is not self._each:
            self._database.commit_each(self.connection, how.autocommit)
            self._each = how.autocommit
        level = how.isolation or levels.default
        if level != self._level:
            self.run(levels.set[level])  # type: ignore[index]
            self._level = level
            self._commit()  # for some it counts from the next transaction on
        session = profile.session
        if how.timeout_ms is not None and session.lock_timeout is not None:
            step = session.lock_timeout_step_ms
            steps = -(-how.timeout_ms // step)
            text = session.lock_timeout.replace("{ms}", str(steps * step))
            self.run(text.replace("{s}", str(-(-steps * step // 1000))))
            self._limited = True
        elif self._limited and session.lock_timeout_off is not None:
            self.run(session.lock_timeout_off)
            self._limited = False
        reported = self._database.reported.get(level)
        if reported is None:  # it has just been set, so the server says the same each time
            reported = self._database.reported[level] = self._reported(level)
            self._commit()
        self._begun = Begun(isolation=reported, read_only=False)
        return Reply()

    def _reported(self, level: str) -> str:
        levels = self._profile.levels
        if levels.reported is None:
            return level
        rows = self.run(levels.reported)
        word = (text_of(rows[0][0]) or "").strip() if rows else ""
        return levels.names.get(word, word.lower().replace("-", " ")) or "not reported"

    def _not_said(self, how: Beginning) -> str | None:
        """What a transaction asks for, and the profile does not say how it is had."""
        if how.isolation is not None and how.isolation not in self._profile.levels.set:
            return f"how the level {how.isolation} is set"
        if how.timeout_ms is not None and self._profile.session.lock_timeout is None:
            return "how a session's lock timeout is set (session.lock_timeout)"
        if how.access is not None:
            return "how a transaction is made read only"
        if how.text is not None:
            return "what a statement that begins a transaction does"
        return None

    def _execute(self, sql: str, values: Binding) -> Reply:
        plain = sql.strip().lower().rstrip(";").strip()
        if plain in ("commit", "commit work") and not self._each:
            self.connection.commit()
            return Reply(in_transaction=False)
        if plain in ("rollback", "rollback work") and not self._each:
            self.connection.rollback()
            return Reply(in_transaction=False)
        cursor = self.connection.cursor()
        marked = self._profile.session.asked == "statement"
        try:
            text, bound = self._database.bound(sql, values) if values else (sql, None)
            if marked:  # on a line of its own: a comment may end the statement
                text = f"{text}\n/*{self.mark}*/"
            cursor.execute(*((text,) if bound is None else (text, bound)))
            reply = self._fetch(cursor)
        finally:
            with contextlib.suppress(Exception):
                cursor.close()
        self._asks = marked and not self._each
        return reply

    def _fetch(self, cursor: Any) -> Reply:
        if not cursor.description:
            return Reply(rows=max(cursor.rowcount, 0))
        fetched = Fetched(KEPT_ROWS)
        sample: list[Any] = []
        while rows := cursor.fetchmany(AT_ONCE):
            sample = sample or list(rows[:20])
            for row in rows:
                if not fetched.add(tuple(text_of(value) for value in row)):
                    return Reply(error=too_large())
        result = Result(
            columns=tuple(self._profile.sql.folded(str(one[0])) for one in cursor.description),
            rows=tuple(fetched.rows),
            kinds=kinds_of(cursor.description, sample),
            cut=fetched.cut,
            digest=fetched.digest,
        )
        return Reply(rows=fetched.count, result=result)

    # -- outside -----------------------------------------------------------------------------------

    def begin(self, how: Beginning) -> None:
        """Begin a transaction."""
        self.ready()
        self._begun = None
        self.in_transaction, self.trail, self.busy = not how.autocommit, (), True
        self._orders.put(lambda: self._begin(how))

    def begun(self) -> Begun:
        """What the server reported after ``begin``. Raises RuntimeError before that."""
        if self._begun is None:
            raise RuntimeError("not begun")
        return self._begun

    def send(self, sql: str, patience: Patience | None = None, values: Binding = NOTHING) -> None:
        """Send one statement; who becomes a victim cannot be chosen."""
        self.sql, self.values, self.sent = sql, values, self.sent + 1
        self.trail, self.busy = (*self.trail, (sql, values)), True
        if sql in ("commit", "rollback"):
            self.in_transaction = False
        self._orders.put(lambda: self._execute(sql, values))

    def read(self, sql: str) -> ServerError | None:
        """There is no way that every driver has, so nothing is refused before it is run."""
        return None

    def poll(self) -> Reply | None:
        reply = self._reply
        if reply is None:
            return None
        os.read(self._read, 1)
        self._reply, self.busy = None, False
        if reply.error is not None and reply.error.undone == "transaction":
            self.in_transaction = False
        if not self.in_transaction:
            self.trail_before, self.trail = self.trail or self.trail_before, ()
        return reply

    @property
    def answered(self) -> bool:
        """Whether a reply is there to be polled."""
        return self._reply is not None

    def cancel(self) -> None:
        """Have the server end the statement under way, where the profile says how; otherwise it
        ends by the server's own lock timeout.
        """
        if self._ends is not None and self._profile.session.cancel is not None:
            self._ends(self._profile.session.cancel, self.number)
        elif self._ends is not None and self._profile.session.end is not None:
            self.kill()

    def kill(self) -> None:
        """End the session, by the server where the profile says how, else by closing it here."""
        self._lost = True
        if self._ends is not None and self._profile.session.end is not None:
            self._ends(self._profile.session.end, self.number)

    def close(self) -> None:
        """Roll back and disconnect; where a statement is under way that nobody can end, its thread
        and its connection are left to end by themselves.
        """
        if self._closed:
            return
        self._closed = True
        if self.busy:
            self.kill()
        self._orders.put(self._leave)
        self._orders.put(None)
        self._worker.join(2 if self.busy else 5)
        if not self._worker.is_alive():
            os.close(self._read)
            os.close(self._write)

    def _leave(self) -> None:
        with contextlib.suppress(Exception):
            if not self._each:
                self.connection.rollback()
        with contextlib.suppress(Exception):
            self.connection.close()
