"""The control connection of one run on a server with InnoDB: what the parts of the engine share.

Each port of ``engines.ports`` has a file of its name beside this one; what one server alone has or
lacks stands in the package of its name, as a class that fills in what is abstract here.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import socket
import threading
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping
from typing import Any, ClassVar, Literal, Protocol
from urllib.parse import parse_qsl, unquote, urlsplit

import pymysql
from pymysql.constants import CLIENT

from catenum.core.errors import InputError, ScenarioFault, TargetError
from catenum.core.logs.innodb_status import ReportedDeadlock
from catenum.core.record.recording import TargetInfo
from catenum.core.record.waits import Edge
from catenum.core.servers import Rules
from catenum.core.text import suggestion
from catenum.engines.innodb import errors
from catenum.engines.innodb.locks import InnodbReader
from catenum.engines.innodb.restore import DataRestorer
from catenum.engines.innodb.session import AS_TEXT, InnodbSession
from catenum.engines.innodb.side_connection import SideConnection
from catenum.engines.ports import Capabilities, DataError

#: What may stand behind the question mark of a URL, by PyMySQL's names: a local socket, and the
#: server's certificate.
URL_PARAMETERS = ["unix_socket", "ssl_ca"]
MARK = "catenum scratch space"
#: How long what a scenario brings may take (ms): all of its data; anything else.
LOAD_MS, ASK_MS = 600_000.0, 75_000.0


#: Errors that are about rights; and those that are the server's own, whatever a scenario has: a
#: full disk or table, too many connections, a wait of somebody else that takes too long, a query
#: that does.
_RIGHTS = (1044, 1142, 1143, 1227, 1370)
_OF_SERVER = (1021, 1040, 1114, 1203, 1205, 1226, 1969, 3024)


class Overdue(pymysql.OperationalError):
    """A call did not return in time, and its session was ended."""


class VictimWaits(Protocol):
    """Locks that InnoDB does not know of, as far as the engine's common part needs them."""

    sessions: dict[int, InnodbSession]

    def edges_of_victim(
        self, session: InnodbSession, everyone: Mapping[int, str], tables: Collection[str]
    ) -> tuple[Edge, ...]:
        """What a victim's statement was after, where its cycle is one of these locks."""


class InnodbControl(ABC):
    """One server, one run."""

    rules: ClassVar[Rules]
    #: Where sessions are listed, with ``id``, and ``db`` for the one they stand in.
    process_list: ClassVar[str]
    #: The control connection and that for a scenario's data wait for nobody for long (s).
    limits: str

    reader: InnodbReader
    metadata: VictimWaits
    restorer: DataRestorer
    info: TargetInfo
    capabilities: Capabilities
    _level: str
    _detects: bool
    _timeout_undoes: Literal["transaction", "statement"]

    def __init__(
        self, where: dict[str, object], shown_url: str, *, private: bool, sandboxed: bool = True
    ) -> None:
        """``sandboxed``: what a scenario brings is run by a login with rights on the scratch space
        alone, where we may make one: on a private server, and on any other as a login that may
        grant all it has.
        """
        self.run = secrets.token_hex(4)
        self.schema = f"catenum_{self.run}"
        self.user: str | None = None
        self._where, self._shown = where, shown_url
        self._theirs: dict[str, object] = where
        self._writer: pymysql.Connection[Any] | None = None
        self._side = SideConnection()  # uses the writer, where that is a connection of its own
        self._prepared_before: list[str] = []
        self._bounded = False  # somebody waits for what runs on the writer, with a limit
        self.loads = 0
        self._made = self._connected = self._cut_short = False
        self._learned = self._loops = self._steady = False
        self._threads: dict[int, str] = {}
        self._report: ReportedDeadlock | None = (
            None  # of the deadlock asked for last, where InnoDB told of it
        )
        self._last_report: ReportedDeadlock | None = None
        with self._translated():
            self.connection = self._connect("control")
        self._connected = True
        try:
            with self._translated():
                self._prepare(private)
                self.restorer = self._make_restorer()
                if sandboxed and (private or self._may_make_users()):
                    self.user = self.schema
                    self._host = str(self.query("select substring_index(user(), '@', -1)")[0][0])
        except BaseException:
            self.connection.close()
            raise

    # -- what differs from server to server --------------------------------------------------------

    @abstractmethod
    def _prepare(self, private: bool) -> None:
        """Learn what the server is and has. Raises TargetError where it cannot be used."""

    @abstractmethod
    def _make_restorer(self) -> DataRestorer:
        """What keeps the data between schedules."""

    @abstractmethod
    def session_limits(self, seconds: int) -> str:
        """The statement after which a session's waits end by themselves, should nobody be there to
        end them.
        """

    @abstractmethod
    def _new_user(self, name: str, host: str) -> str:
        """Make a login. Returns its password, which stands in no statement, so that neither the
        process list nor a log of the server shows it.
        """

    @abstractmethod
    def _users_left(self) -> list[str]:
        """Logins of the name that runs give theirs."""

    @abstractmethod
    def _spaces_left(self) -> list[str]:
        """Databases that carry both Catenum's name and its mark, regardless of whose run made
        them.
        """

    @abstractmethod
    def make_space(self, name: str) -> None:
        """Make a database that carries Catenum's mark."""

    # -- connections -------------------------------------------------------------------------------

    @property
    def writer(self) -> pymysql.Connection[Any]:
        """Runs all that a scenario brings: data, rules, plans."""
        self._side.wait()
        if self.user is None:
            return self.connection
        if self._writer is None:
            self._writer = self._connect("data", self._theirs)
            self._writer.cursor().execute(self.limits)
            self._writer.select_db(self.schema)
        return self._writer

    def write(self, sql: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of one query on that connection; after an interrupt in the midst of one, on a new
        one.
        """
        with self.within(ASK_MS):
            if self.user is None:
                return self.query(sql, values)
            cursor = self.writer.cursor()
            cursor.execute(sql, values or None)
            return list(cursor.fetchall())

    @contextlib.contextmanager
    def within(self, limit_ms: float) -> Iterator[None]:
        """What runs SQL of a scenario on that connection has so long; then its session is ended.
        Raises Overdue.

        After an interrupt in the midst of it, it has a new connection.
        """
        if self._bounded:
            yield
            return
        number, over = int(self.writer.thread_id()), threading.Event()  # type: ignore[no-untyped-call]
        timer = threading.Timer(limit_ms / 1000, self._end_late, [number, over])
        timer.daemon = self._bounded = True
        timer.start()
        try:
            yield
        except (pymysql.Error, OSError, DataError) as error:
            if not over.is_set():
                raise
            self._renew_writer()
            raise Overdue(
                f"it took longer than {max(1, round(limit_ms / 1000))} s and was ended"
            ) from error
        except BaseException:
            self._renew_writer()
            raise
        finally:
            self._bounded = False
            timer.cancel()

    def _end_late(self, number: int, over: threading.Event) -> None:
        """On a connection of its own: the others wait for what is to be ended."""
        over.set()
        with (
            contextlib.suppress(pymysql.Error, OSError),
            contextlib.closing(self._connect("ender")) as ender,
        ):
            ender.cursor().execute(f"kill connection {number}")

    def _renew_writer(self) -> None:
        self._writer = None
        self._cut_short = self._cut_short or self.user is None

    @property
    def sandboxed(self) -> bool:
        """Whether a scenario's SQL has no rights outside the scratch space."""
        return self.user is not None

    def _may_make_users(self) -> bool:
        """Whether this login may make another and give it all rights on a database."""
        query = (
            "select is_grantable from information_schema.user_privileges where privilege_type ="
            " 'CREATE USER' and replace(grantee, char(39), '') = current_user()"
        )
        return ("YES",) in self.query(query)

    def _make_user(self) -> None:
        """A login that may do anything in the run's databases and nothing elsewhere, from where we
        are seen to come.
        """
        if self.user is None:
            return
        password = self._new_user(self.user, self._host)
        for name in (self.schema, f"{self.schema}_kept"):
            self.query(f"grant all on `{self.pattern(name)}`.* to {self.user}@%s", (self._host,))
        self._theirs = {**self._where, "user": self.user, "password": password}

    def pattern(self, name: str) -> str:
        """A name as GRANT reads it, where ``_`` would stand for any letter."""
        return name.replace("_", r"\_")

    def _drop_user(self, name: str) -> None:
        for (host,) in self.query("select host from mysql.user where user = %s", (name,)):
            self.query(f"drop user if exists `{name}`@%s", (host,))

    def mark(self) -> str:
        """What marks a database as ours, and tells whose run it is."""
        return f"{MARK}; run {self.run}; host {socket.gethostname()}; process {os.getpid()}"

    def _connect(
        self, name: str, where: dict[str, object] | None = None
    ) -> pymysql.Connection[Any]:
        options: dict[str, Any] = {
            **(where or self._where),
            "autocommit": True,
            "charset": "utf8mb4",
            "conv": AS_TEXT,
            "connect_timeout": 5,
            "program_name": f"catenum {self.run} {name}",
            # rows found rather than rows changed, as other servers count
            "client_flag": CLIENT.MULTI_RESULTS | CLIENT.FOUND_ROWS,
            # nothing goes over a network then, and the driver would read all of the system's
            # certificates each time
            "ssl_disabled": "unix_socket" in self._where,
        }
        return pymysql.connect(**options)

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        """Turn a driver's error into one sentence about the target."""
        try:
            yield
        except (pymysql.Error, OSError) as error:
            number, message = errors.number_and_text(error)
            if not self._connected:
                raise errors.unreachable(error, self._shown) from error
            if number in _RIGHTS and (self.user is None or self.user not in message):
                raise TargetError(
                    f"{self._shown}: the login may not do what a run needs: {message}",
                    advice=_grant_for(message),
                ) from error
            if errors.kind_of(number, self.rules) == "lost" or number == 0:
                raise errors.went_away(error, self._shown) from error
            if number in _OF_SERVER or isinstance(error, Overdue):
                raise TargetError(f"{self._shown}: {message}") from error
            raise ScenarioFault(
                f"{self._shown}: what the scenario's data define made the server reject a query:"
                f" {message}"
            ) from error

    def query(self, sql: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of one query on the control connection; after an interrupt in the midst of one, on a
        new connection.
        """
        if self._cut_short:
            self._reconnect()
        try:
            cursor = self.connection.cursor()
            cursor.execute(sql, values or None)
            return list(cursor.fetchall())
        except pymysql.Error:
            raise
        except BaseException:
            self._cut_short = (
                True  # half an answer is still on its way: this connection cannot be used again
            )
            raise

    def _reconnect(self) -> None:
        with contextlib.suppress(Exception):
            self.connection.close()
        self.connection = self._connect("control")
        self._cut_short = False
        self.query(self.limits)
        if self._made:
            self.query("select get_lock(%s, 5)", (self.schema,))
            self.connection.select_db(self.schema)

    def _kill(self, thread: int, whole: bool) -> None:
        with contextlib.suppress(pymysql.Error, OSError):
            self.query(f"kill {'connection' if whole else 'query'} {thread}")

    def _learn(self) -> None:
        """Learn definitions, where somebody can have changed them since: a session of the run, or
        its loops; not where it is known of all that runs that it does not (``keep_data``).
        """
        if not self._learned and not self._steady:
            self.reader.learn()
            self._learned = not self._threads and not self._loops

    def connections_left(self) -> int:
        query = "show global status where variable_name = 'Threads_connected'"
        with self._translated():
            most = int(self.query("select @@global.max_connections")[0][0])
            return most - int(self.query(query)[0][1])

    def alive(self) -> bool:
        """Whether the control connection still answers."""
        try:
            self.query("select 1")
        except (pymysql.Error, OSError):
            return False
        return True


def arguments_of(url: str) -> dict[str, object]:
    """PyMySQL's arguments for a URL. Raises InputError for a parameter that it does not know."""
    parts = urlsplit(url)
    found: dict[str, object] = {"host": parts.hostname or "127.0.0.1", "port": parts.port or 3306}
    for name, value in parse_qsl(parts.query):
        if name not in URL_PARAMETERS:
            raise InputError(
                f"{name}= in the target's URL", advice=suggestion(name, URL_PARAMETERS)
            )
        found[name] = value
    if parts.username:
        found["user"] = unquote(parts.username)
    password = unquote(parts.password) if parts.password else os.environ.get("MYSQL_PWD")
    if password:
        found["password"] = password
    return found


def quoted(name: str) -> str:
    """A name as it can stand in any statement."""
    return "`" + name.replace("`", "``") + "`"


def _grant_for(message: str) -> str | None:
    if "PROCESS" in message:
        return "An administrator may allow it: grant process on *.* to the login;"
    if "to database" in message:
        return "An administrator may allow it: grant all on `catenum\\_%`.* to the login;"
    if "performance_schema" in message or "for table" in message:
        return "An administrator may allow it: grant select on performance_schema.* to the login;"
    return None
