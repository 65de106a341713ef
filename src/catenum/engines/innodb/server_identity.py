"""Which of the servers that speak one protocol answers at a URL, whichever of them its first word
names.
"""

from __future__ import annotations

import contextlib
from typing import Any

import pymysql
from pymysql.constants import CR

from catenum.core.errors import TargetError
from catenum.engines.innodb import errors
from catenum.engines.innodb.control import arguments_of

#: A server greets whoever connects. One that looks up names of hosts first may take a while (s).
GREETING_S = 10


def who_answers(url: str, shown_url: str) -> str:
    """``mariadb`` or ``mysql``, as the server told when it was greeted.

    Raises InputError for a URL that the driver does not understand, TargetError where nobody lets
    us in.
    """
    where: dict[str, Any] = arguments_of(url)
    try:
        connection = pymysql.connect(
            **where, connect_timeout=5, read_timeout=GREETING_S, ssl_disabled="unix_socket" in where
        )
    except (pymysql.Error, OSError) as error:
        if errors.number_and_text(error)[0] in (CR.CR_SERVER_LOST, 0):
            raise TargetError(
                f"cannot connect to {shown_url}: what is there does not greet as MariaDB and"
                " MySQL do",
                advice=(
                    "Is it another server's port or socket, or one that is just starting or"
                    " stopping?"
                ),
            ) from error
        raise errors.unreachable(error, shown_url) from error
    reported = str(connection.get_server_info())  # type: ignore[no-untyped-call]
    with contextlib.suppress(pymysql.Error, OSError):
        connection.close()
    return "mariadb" if "mariadb" in reported.lower() else "mysql"
