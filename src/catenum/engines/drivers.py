"""A server's own modules, found by its name: each brings a driver that may not be installed."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from catenum.core.errors import TargetError
from catenum.core.servers import profile_of, rules_of


def server_module(server: str, part: str = "") -> Any:
    """A module of a server's engine, loaded only where it is used. Raises TargetError where its
    driver is missing.
    """
    package = server if profile_of(server) is None else "by_profile"
    try:
        return import_module(f"catenum.engines.{package}{part}")
    except ModuleNotFoundError as error:
        if error.name is None or error.name.startswith("catenum"):
            raise
        lacking = error.name.partition(".")[0]
        raise TargetError(
            f"the Python package {lacking}, the driver for {rules_of(server).title}, is not"
            " installed",
            advice=f"pip install {lacking}",
        ) from error
