"""Which of the servers that speak one protocol answers at a URL, whichever of them its first word names."""

from __future__ import annotations

import contextlib
from typing import Any

import pymysql

from catenum.engines.innodb import errors
from catenum.engines.innodb.control import arguments_of


def who_answers(url: str, shown_url: str) -> str:
    """``mariadb`` or ``mysql``, as the server told when it was greeted.

    Raises InputError for a URL that the driver does not understand, TargetError where nobody lets us in.
    """
    where: dict[str, Any] = arguments_of(url)
    try:
        connection = pymysql.connect(
            **where,
            connect_timeout=5,
            ssl_disabled="unix_socket" in where,
        )
    except (pymysql.Error, OSError) as error:
        raise errors.unreachable(error, shown_url) from error
    told = str(connection.get_server_info())  # type: ignore[no-untyped-call]
    with contextlib.suppress(pymysql.Error, OSError):
        connection.close()
    return "mariadb" if "mariadb" in told.lower() else "mysql"
