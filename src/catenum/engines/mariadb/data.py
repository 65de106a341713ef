"""Scratch space and data: what MariaDB alone tells."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from catenum.core.record.recording import PathStep
from catenum.engines.innodb.data import InnodbData
from catenum.engines.innodb.plans import steps_of
from catenum.engines.mariadb.control import MariadbControl

_LIBRARIES = (
    "select plugin_name from information_schema.plugins where plugin_type = 'FUNCTION' and plugin_library is not null"
)


class MariadbData(InnodbData, MariadbControl):
    """See ``engines.ports.data.Data`` for what each method promises."""

    def functions(self) -> frozenset[str]:
        """Those that are loaded as plugins, too, where the login may see them."""
        with self._told():
            plugged = self.query(_LIBRARIES)
        return super().functions() | {str(row[0]).lower() for row in plugged}

    def steps(self, plan: Any) -> Iterator[PathStep]:
        """Every table in the plan."""
        return steps_of(plan)
