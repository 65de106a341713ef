"""Drivers of the DB-API 2.0 (PEP 249): imported by name, called with what a URL says, their errors
translated.

Where the specification leaves something open (how autocommit is switched, where an error has its
code), the few ways that drivers have are tried in turn.
"""

from __future__ import annotations

import contextlib
import importlib
import os
import re
import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

from catenum.core.errors import InputError, TargetError
from catenum.core.record.recording import ErrorKind, Result, ServerError
from catenum.core.record.values import Binding, Value, ValueKind
from catenum.core.servers import Rules, rules_of
from catenum.core.servers.profile import Profile
from catenum.core.sql.parameters import pieces_of
from catenum.engines.by_profile.deadline import CONNECT_S, Caller

#: Drivers that may be imported because a profile names them, with what pip calls them. Importing
#: any module runs its code.
KNOWN_DRIVERS = {
    "cx_Oracle": "cx_Oracle",
    "fdb": "fdb",
    "firebird.driver": "firebird-driver",
    "hdbcli.dbapi": "hdbcli",
    "ibm_db_dbi": "ibm_db",
    "jpype.dbapi2": "JPype1",
    "mariadb": "mariadb",
    "mysql.connector": "mysql-connector-python",
    "MySQLdb": "mysqlclient",
    "oracledb": "oracledb",
    "pg8000.dbapi": "pg8000",
    "psycopg": "psycopg[binary]",
    "psycopg2": "psycopg2",
    "pymssql": "pymssql",
    "pymysql": "pymysql[rsa]",
    "pyodbc": "pyodbc",
    "sqlanydb": "sqlanydb",
    "teradatasql": "teradatasql",
}
#: Folders whose files of classes come from the system's packages.
SYSTEM_CLASSES = (Path("/usr/share/java"), Path("/usr/local/share/java"))
_PLACE = re.compile(r"\{(host|port|database|user|password|options|\?\w+)\}")
_LIBRARY = re.compile(r"(?i)(?:^|[=;/\\])[^;=]*\.(?:so|dll|dylib|jar|zip)(?:\.\d+)*(?=;|$)")


#: In place of an argument whose part of the URL is not there.
_LEFT_OUT = object()


@dataclass(frozen=True, slots=True)
class Place:
    """Where to connect: plain values. ``login`` and ``login_password``: as whom a scenario's
    sessions do, where that is another than ourselves.
    """

    host: str
    port: int | None
    database: str
    user: str
    password: str
    options: tuple[tuple[str, str], ...] = ()
    login: str | None = None
    login_password: str = ""

    @property
    def theirs(self) -> Place:
        """The same as the login of a scenario's sessions."""
        if self.login is None:
            return self
        return replace(self, user=self.login, password=self.login_password)


def refuse_strangers(profile: Profile, name: str) -> None:
    """Raises InputError for a profile that would run code which nobody has vouched for."""
    driver = profile.driver
    advice = (
        "If you know where the profile comes from, --trust-profile allows it. Drivers that need no"
        f" such word: {', '.join(sorted(KNOWN_DRIVERS))}."
    )
    if driver.module not in KNOWN_DRIVERS:
        raise InputError(
            f"{name} names the Python module {driver.module!r} as its driver, which is not known"
            " as one: importing it runs its code with your rights",
            advice=advice,
        )
    for file in driver.classpath:
        if not any(Path(file).resolve().is_relative_to(folder) for folder in SYSTEM_CLASSES):
            raise InputError(
                f"{name} names {file}, which is not of the system's packages: what is in it runs"
                " with your rights",
                advice=advice,
            )
    for text in _texts([driver.positional, driver.arguments]):
        if _LIBRARY.search(text):
            raise InputError(
                f"{name} gives its driver the library {text!r}: what is in it runs with your"
                " rights",
                advice=advice,
            )


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for one in value.values():
            yield from _texts(one)
    elif isinstance(value, list | tuple):
        for one in value:
            yield from _texts(one)


def place_of(url: str, profile: Profile) -> Place:
    """What a URL says, with the password from where the profile says it comes. Raises InputError
    where that cannot be had.
    """
    parts = urlsplit(url)
    password = unquote(parts.password) if parts.password else _password(profile)
    return Place(
        host=parts.hostname or "localhost",
        port=parts.port or profile.driver.port,
        database=unquote(parts.path.lstrip("/")),
        user=unquote(parts.username or ""),
        password=password,
        options=tuple(parse_qsl(parts.query, keep_blank_values=True)),
    )


def _password(profile: Profile) -> str:
    variable, file = profile.driver.password_variable, profile.driver.password_file
    if variable and os.environ.get(variable):
        return os.environ[variable]
    if not file:
        return ""
    path = Path(file).expanduser()
    try:
        if path.stat().st_mode & (stat.S_IRWXG | stat.S_IRWXO):
            raise InputError(
                f"others may read the password file {path}", advice=f"chmod 600 {path}"
            )
        return path.read_text(encoding="utf-8").partition("\n")[0]
    except FileNotFoundError:
        return ""
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"the password file {path} cannot be read: {error}") from error


class Database:
    """One driver for one profile."""

    def __init__(self, profile: Profile, shown: str) -> None:
        """Raises TargetError where the driver is not installed, or does not load."""
        self.profile, self.shown = profile, shown
        #: What the server makes of each level that sessions ask for.
        self.reported: dict[str, str] = {}
        self.rules: Rules = rules_of(profile.name)
        name = profile.driver.module
        package = profile.driver.package or KNOWN_DRIVERS.get(name) or name.partition(".")[0]
        try:
            self.module: Any = importlib.import_module(name)
        except ModuleNotFoundError as error:
            raise TargetError(
                f"the Python package {package}, the driver for {profile.title}, is not installed",
                advice=f"pip install {package}",
            ) from error
        except Exception as error:
            raise TargetError(
                f"the driver {name} does not load: {_first_line(error)}",
                advice="A driver may need a library of the system's: see its own documentation.",
            ) from error
        if not callable(getattr(self.module, "connect", None)):
            raise TargetError(
                f"the module {name} has no connect(), so it is no driver (PEP 249)",
                advice="Correct driver.module in the profile.",
            )
        if profile.driver.classpath:
            self._start_machine()

    def _start_machine(self) -> None:
        """Once in a process: the classes that it begins with are all that it has."""
        lacking = [file for file in self.profile.driver.classpath if not Path(file).is_file()]
        if lacking:
            raise TargetError(
                f"the driver's classes are not there: {', '.join(lacking)}",
                advice="Install them, or correct driver.classpath in the profile.",
            )
        import jpype

        if jpype.isJVMStarted():
            return
        try:
            jpype.startJVM("-Xrs", "-Xmx256m", classpath=list(self.profile.driver.classpath))
        except Exception as error:
            raise TargetError(
                f"no Java for {self.profile.title}'s driver: {_first_line(error)}",
                advice="apt-get install default-jre-headless, or set JAVA_HOME.",
            ) from error

    # -- connecting --------------------------------------------------------------------------------

    def connect(self, place: Place, *, autocommit: bool = False) -> Any:
        """A connection. Raises TargetError."""
        driver = self.profile.driver
        try:
            positional = [self._filled(one, place) for one in driver.positional]
            named = self._filled(driver.arguments, place)
            with contextlib.closing(Caller("catenum connects")) as caller:
                connection = caller.call(
                    lambda: self.module.connect(*positional, **named), CONNECT_S, self.shown
                )
        except TargetError:
            raise
        except Exception as error:
            said = without(_first_line(error), place.password)
            raise TargetError(
                f"cannot connect to {self.shown}: {said}",
                advice="Is the server running there? Check user and password.",
            ) from error
        self.commit_each(connection, autocommit)
        return connection

    def _filled(self, value: Any, place: Place) -> Any:
        if isinstance(value, list | tuple):
            return [self._filled(one, place) for one in value]
        if isinstance(value, dict):
            filled = {key: self._filled(one, place) for key, one in value.items()}
            return {key: one for key, one in filled.items() if one is not _LEFT_OUT}
        if not isinstance(value, str):
            return value
        options = "".join(
            self.profile.driver.option.format(name=name, value=text) for name, text in place.options
        )
        known: dict[str, Any] = {
            "host": place.host,
            "port": place.port,
            "database": place.database,
            "user": place.user,
            "password": place.password,
            "options": options,
            **{f"?{name}": text for name, text in place.options},
        }
        whole = _PLACE.fullmatch(value)
        if whole:  # a port stays a number
            return known.get(whole[1], _LEFT_OUT)
        return _PLACE.sub(lambda found: str(known.get(found[1]) or ""), value)

    def commit_each(self, connection: Any, on: bool) -> None:
        """Whether each statement is a transaction of its own: by a method, or an attribute; where
        there is neither the specification says that it is not.
        """
        found = getattr(connection, "autocommit", None)
        if callable(found):
            found(on)
        elif found is not None or hasattr(type(connection), "autocommit"):
            connection.autocommit = on

    @cached_property
    def mark(self) -> str:
        """How the driver writes a place for a value."""
        return str(getattr(self.module, "paramstyle", "qmark"))

    def bound(self, sql: str, values: Binding) -> tuple[str, Any]:
        """A statement as the driver wants it, with its values."""
        rules = self.rules.sql
        pieces = pieces_of(sql, rules.token_patterns)
        given = rules.values_by_place(sql, values)
        plain = [value.plain for value in given]
        match self.mark:
            case "qmark":
                return "?".join(pieces), plain
            case "numeric":
                numbered = (f":{n}" for n in range(1, len(pieces)))
                return _joined(pieces, numbered), plain
            case "named":
                names = [f"value_{n}" for n in range(1, len(pieces))]
                text = _joined(pieces, (f":{name}" for name in names))
                return text, dict(zip(names, plain, strict=True))
            case _:  # format, pyformat
                return "%s".join(piece.replace("%", "%%") for piece in pieces), plain

    # -- errors ------------------------------------------------------------------------------------

    def error_of(self, error: BaseException) -> ServerError:
        """An exception of the driver's, by what the profile says of its code."""
        code, message = self._code(error), _first_line(error, whole=True)
        errors = self.rules.errors
        kind: ErrorKind = errors.kind_of(code)
        if kind == "rejected" and not code:
            interface = getattr(self.module, "InterfaceError", ())
            operational = getattr(self.module, "OperationalError", ())
            lost = isinstance(error, (OSError, *_kinds(interface), *_kinds(operational)))
            kind = "lost" if lost else kind
        whole = code in self.profile.errors.undoes_transaction or kind == "lost"
        own = self.profile.errors
        return ServerError(
            code=code,
            kind=kind,
            message=message,
            undone="transaction" if whole or own.refuses_after_error else "statement",
            check="row version" if kind == "refused" else None,
            syntax="syntax" in message.lower() and kind == "rejected",
        )

    def _code(self, error: BaseException) -> str:
        wanted = self.profile.errors.code
        for one in (error, error.__cause__, *getattr(error, "args", ())):
            if one is None:
                continue
            found = _state_of(one) if wanted == "sqlstate" else _number_of(one)
            if found:
                return found
        return ""


def _kinds(found: Any) -> tuple[type[BaseException], ...]:
    return (found,) if isinstance(found, type) else ()


def _joined(pieces: Sequence[str], between: Iterator[str]) -> str:
    return "".join(part for pair in zip(pieces, [*between, ""], strict=True) for part in pair)


def _state_of(found: Any) -> str:
    """An SQLSTATE: an attribute in most drivers, a method in Java, the first word in ODBC."""
    for name in ("sqlstate", "pgcode", "getSQLState"):
        value = getattr(found, name, None)
        if callable(value):
            with contextlib.suppress(Exception):
                value = value()
        if value is not None and not callable(value):
            return str(value)
    if isinstance(found, str) and re.fullmatch(r"[0-9A-Z]{5}", found):
        return found
    return ""


def _number_of(found: Any) -> str:
    """An error number."""
    if isinstance(found, int) and not isinstance(found, bool):
        return str(found)
    for name in ("errno", "number", "code", "getErrorCode"):
        value = getattr(found, name, None)
        if callable(value):
            with contextlib.suppress(Exception):
                value = value()
        if isinstance(value, int) and not isinstance(value, bool):
            return str(value)
    return ""


def _first_line(error: BaseException, *, whole: bool = False) -> str:
    text = str(error).strip() or type(error).__name__
    # a driver in Java puts the class in front
    text = re.sub(r"^(?:[a-z]\w*\.)+[A-Z]\w*(?:Exception|Error): ", "", text)
    return text if whole else text.splitlines()[0]


def without(text: str, secret: str) -> str:
    """A text in which a password does not stand."""
    return text.replace(secret, "***") if secret else text


def is_true(value: Any) -> bool:
    """A truth value as servers and drivers write it."""
    return str(value).strip().lower() in ("1", "true", "t", "yes", "y")


def text_of(value: Any) -> str | None:
    """A value as text; bytes as hex."""
    if value is None:
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, bytes | bytearray | memoryview):
        return "0x" + bytes(value).hex()
    return str(value)


def _kind(values: Sequence[Any]) -> ValueKind:
    first = next((value for value in values if value is not None), None)
    if isinstance(first, bool):
        return "boolean"
    from numbers import Number

    return "number" if isinstance(first, Number) or type(first).__name__ == "Decimal" else "text"


def result_of(cursor: Any, most: int | None = None) -> Result:
    """The rows of a query, at most so many of them."""
    rows = cursor.fetchall() if most is None else cursor.fetchmany(most)
    return Result(
        columns=tuple(str(column[0]) for column in cursor.description),
        rows=tuple(tuple(text_of(value) for value in row) for row in rows),
        kinds=kinds_of(cursor.description, rows),
    )


def kinds_of(description: Any, rows: Sequence[Sequence[Any]]) -> tuple[ValueKind, ...]:
    """The kinds of a result's columns, by the values that the driver gave."""
    return tuple(_kind([row[n] for row in rows[:20]]) for n in range(len(description)))


def value_of(plain: Any) -> Value:
    """One value, for a scenario."""
    return Value.read(text_of(plain), _kind([plain]))
