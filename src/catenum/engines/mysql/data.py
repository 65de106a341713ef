"""Scratch space and data: what MySQL alone tells."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from catenum.core.record.recording import PathStep
from catenum.engines.innodb.data import InnodbData
from catenum.engines.mysql.control import MysqlControl
from catenum.engines.mysql.plans import steps_of

_LIBRARIES = "select udf_name from performance_schema.user_defined_functions where udf_library is not null"


class MysqlData(InnodbData, MysqlControl):
    """See ``engines.ports.data.Data`` for what each method promises."""

    def functions(self) -> frozenset[str]:
        """Those that are loaded from a library, too."""
        with self._told():
            loaded = self.query(_LIBRARIES)
        return super().functions() | {str(row[0]).lower() for row in loaded}

    def steps(self, plan: Any) -> Iterator[PathStep]:
        """Every table in the plan, in either version of its form."""
        return steps_of(plan)
