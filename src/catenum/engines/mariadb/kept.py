"""Brings back what only MariaDB has: sequences. And what its catalogue tells of definitions."""

from __future__ import annotations

from catenum.engines.innodb.kept import SHAPE, Keeper

_SEQUENCES = """
select table_name from information_schema.tables where table_schema = %s and table_type = 'SEQUENCE' order by 1
"""
#: A sequence's position, then its definition.
_SEQUENCE = (
    "concat_ws('|', next_not_cached_value, start_value, minimum_value, maximum_value, increment, cache_size, "
    "cycle_option, cycle_count)"
)


class MariadbKeeper(Keeper):
    """See ``Keeper``."""

    shape = (
        *SHAPE,
        "select 'check', concat_ws('|', table_name, constraint_name, check_clause) "
        "from information_schema.check_constraints where constraint_schema = %s",
    )
    digest = "md5({})"

    def sequences(self) -> dict[str, int]:
        """By the catalogue, and each one's own row."""
        names = [str(row[0]) for row in self.query(_SEQUENCES, (self.schema,))]
        return {n: int(self.query(f"select next_not_cached_value from {self.own(n)}")[0][0]) for n in names}

    def sequence_state(self, name: str) -> str:
        """From its own row."""
        return f"(select {_SEQUENCE} from {self.own(name)})"

    def put_back(self, name: str, position: int) -> None:
        """By RESTART."""
        self.query(f"alter sequence {self.own(name)} restart {position}")
