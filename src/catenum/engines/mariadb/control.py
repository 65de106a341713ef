"""The control connection of one run: what the parts of the engine share.

Each port of ``engines.ports`` has a file of its name beside this one.
"""

from __future__ import annotations

import contextlib
import os
import re
import secrets
from collections.abc import Iterator
from hashlib import sha1
from typing import Any, Literal
from urllib.parse import parse_qsl, unquote, urlsplit

import pymysql
from pymysql.constants import CLIENT

from catenum.core.errors import InputError, TargetError
from catenum.core.record.recording import TargetInfo
from catenum.core.words import suggestion
from catenum.engines.innodb.status import ReportedDeadlock
from catenum.engines.mariadb import errors
from catenum.engines.mariadb.kept import Keeper
from catenum.engines.mariadb.locks import LockReader
from catenum.engines.mariadb.metadata import MetadataReader
from catenum.engines.mariadb.pending import TELLS
from catenum.engines.mariadb.session import AS_TEXT
from catenum.engines.ports import Capabilities

_OLDEST = (10, 6)

#: What may stand behind the question mark of a URL, by PyMySQL's names: a local socket, and the server's certificate.
URL_PARAMETERS = ["unix_socket", "ssl_ca"]


class MariadbControl:
    """One server, one run."""

    def __init__(self, where: dict[str, object], shown_url: str, *, private: bool, walled: bool = True) -> None:
        """``walled``: what a scenario brings is run by a login with rights on the scratch space alone, where we may
        make one: on a private server, and on any other as a login that may grant all it has.
        """
        self.run = secrets.token_hex(4)
        self.schema = f"catenum_{self.run}"
        self.user: str | None = None
        self._where, self._shown = where, shown_url
        self._theirs: dict[str, object] = where
        self._writer: pymysql.Connection[Any] | None = None
        self._made = self._loaded = self._connected = self._cut_short = False
        self._threads: dict[int, str] = {}
        self._report: ReportedDeadlock | None = None  # of the deadlock asked for last, where InnoDB told of it
        self._last_report: ReportedDeadlock | None = None
        with self._told():
            self.connection = self._connect("control")
        self._connected = True
        try:
            with self._told():
                self._prepare(private)
                if walled and (private or self._may_make_users()):
                    self._be_walled()
        except BaseException:
            self.connection.close()
            raise

    @property
    def writer(self) -> pymysql.Connection[Any]:
        """Runs all that a scenario brings: data, rules, plans."""
        if self.user is None:
            return self.connection
        if self._writer is None:
            self._writer = self._connect("data", self._theirs)
            self._writer.cursor().execute("set session lock_wait_timeout = 1, max_statement_time = 60")
            self._writer.select_db(self.schema)
        return self._writer

    def write(self, sql: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of one query on that connection; after an interrupt in the midst of one, on a new one."""
        if self.user is None:
            return self.query(sql, values)
        try:
            cursor = self.writer.cursor()
            cursor.execute(sql, values or None)
            return list(cursor.fetchall())
        except pymysql.Error:
            raise
        except BaseException:
            self._writer = None
            raise

    @property
    def walled(self) -> bool:
        """Whether a scenario's SQL has no rights outside the scratch space."""
        return self.user is not None

    def _may_make_users(self) -> bool:
        """Whether this login may make another and give it all rights on a database."""
        query = (
            "select is_grantable from information_schema.user_privileges where privilege_type = 'CREATE USER' "
            "and replace(grantee, char(39), '') = current_user()"
        )
        return ("YES",) in self.query(query)

    def _be_walled(self) -> None:
        """Sessions are to be those of a login of the run's own, from where we are seen to come."""
        self.user, self._password = self.schema, secrets.token_hex(16)
        self._host = str(self.query("select substring_index(user(), '@', -1)")[0][0])
        self._theirs = {**self._where, "user": self.user, "password": self._password}

    def _make_user(self) -> None:
        """A login that may do anything in the run's databases, and nothing elsewhere."""
        if self.user is None:
            return
        # the password itself is in no statement, so no process list and no log of the server shows it
        digest = "*" + sha1(sha1(self._password.encode()).digest()).hexdigest().upper()
        self.query(f"create user {self.user}@%s identified via mysql_native_password using %s", (self._host, digest))
        for name in (self.schema, f"{self.schema}_kept"):
            pattern = name.replace("_", r"\_")  # which would stand for any letter
            self.query(f"grant all on `{pattern}`.* to {self.user}@%s", (self._host,))

    def _drop_user(self, name: str) -> None:
        for (host,) in self.query("select host from mysql.user where user = %s", (name,)):
            self.query(f"drop user if exists `{name}`@%s", (host,))

    def _connect(self, name: str, where: dict[str, object] | None = None) -> pymysql.Connection[Any]:
        options: dict[str, Any] = {
            **(where or self._where),
            "autocommit": True,
            "charset": "utf8mb4",
            "conv": AS_TEXT,
            "connect_timeout": 5,
            "program_name": f"catenum {self.run} {name}",
            # rows found rather than rows changed, as other servers count
            "client_flag": CLIENT.MULTI_RESULTS | CLIENT.FOUND_ROWS,
            # nothing goes over a network then, and the driver would read all of the system's certificates each time
            "ssl_disabled": "unix_socket" in self._where,
        }
        return pymysql.connect(**options)

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        """Turn a driver's error into one sentence about the target."""
        try:
            yield
        except (pymysql.Error, OSError) as error:
            number, message = errors.number_and_text(error)
            if not self._connected:
                raise errors.unreachable(error, self._shown) from error
            if number in (1044, 1142, 1143, 1227, 1370):
                raise TargetError(
                    f"{self._shown}: the login may not do what a run needs: {message}",
                    advice=_grant_for(message),
                ) from error
            if errors.kind_of(number) == "lost" or number == 0:
                raise errors.went_away(error, self._shown) from error
            raise TargetError(f"{self._shown}: {message}") from error

    def query(self, sql: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of one query on the control connection; after an interrupt in the midst of one, on a new connection."""
        if self._cut_short:
            self._reconnect()
        try:
            cursor = self.connection.cursor()
            cursor.execute(sql, values or None)
            return list(cursor.fetchall())
        except pymysql.Error:
            raise
        except BaseException:
            self._cut_short = True  # half an answer is still on its way: this connection cannot be used again
            raise

    def _reconnect(self) -> None:
        with contextlib.suppress(Exception):
            self.connection.close()
        self.connection = self._connect("control")
        self._cut_short = False
        self.query("set session lock_wait_timeout = 1, max_statement_time = 60")
        if self._made:
            self.query("select get_lock(%s, 5)", (self.schema,))
            self.connection.select_db(self.schema)

    def _prepare(self, private: bool) -> None:
        version = str(self.query("select version()")[0][0])
        numbers = tuple(int(part) for part in re.findall(r"\d+", version)[:2])
        if "mariadb" not in version.lower() or numbers < _OLDEST:
            raise TargetError(f"{self._shown}: {version} is not MariaDB 10.6 or later")
        self._level = "@@transaction_isolation" if numbers >= (11, 1) else "@@tx_isolation"
        row = self.query(
            f"select {self._level}, @@innodb_deadlock_detect, @@innodb_rollback_on_timeout, "
            "@@innodb_status_output_locks, (select count(*) from information_schema.plugins "
            "where plugin_name = 'METADATA_LOCK_INFO' and plugin_status = 'ACTIVE')"
        )[0]
        level, detects, whole, lists_held, metadata = (str(value) for value in row)
        self._timeout_undoes: Literal["transaction", "statement"] = "transaction" if whole == "1" else "statement"
        self._detects = detects == "1"
        self.info = TargetInfo(
            server="mariadb",
            version=version.partition("-")[0],
            url=self._shown,
            private=private,
            default_isolation=level.replace("-", " ").lower(),
        )
        self.capabilities = Capabilities(
            steers_victim=False,
            steers_victim_why="InnoDB chooses by weight alone",
            row_locks_by="innodb status" if lists_held == "1" else "innodb_lock_waits",
            timeout_step_ms=1000,
            counts_waits=True,
        )
        self.query("set session lock_wait_timeout = 1, max_statement_time = 60")
        self.metadata = MetadataReader(
            self.query, self.schema, listed=metadata != "0", tells=self._lists_metadata_waits()
        )
        self.reader = LockReader(self.query, self.schema, lists_held=lists_held == "1", metadata=self.metadata)
        self.keeper = Keeper(self.write, self.schema)
        self.reader.status()  # tells at once whether this login may ask who waits for whom

    def _lists_metadata_waits(self) -> bool:
        try:
            return str(self.query(TELLS)[0][0]) != "0"
        except pymysql.Error:  # this login may not read it
            return False

    def _kill(self, thread: int, whole: bool) -> None:
        with contextlib.suppress(pymysql.Error, OSError):
            self.query(f"kill {'connection' if whole else 'query'} {thread}")

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
            raise InputError(f"{name}= in the target's URL", advice=suggestion(name, URL_PARAMETERS))
        found[name] = value
    if parts.username:
        found["user"] = unquote(parts.username)
    password = unquote(parts.password) if parts.password else os.environ.get("MYSQL_PWD")
    if password:
        found["password"] = password
    return found


def _quoted(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"


def _grant_for(message: str) -> str | None:
    if "PROCESS" in message:
        return "An administrator may allow it: grant process on *.* to the login;"
    if "to database" in message:
        return "An administrator may allow it: grant all on `catenum\\_%`.* to the login;"
    return None
