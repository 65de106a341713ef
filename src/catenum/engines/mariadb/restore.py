"""Brings back what only MariaDB has: sequences. And what its catalogue tells of definitions."""

from __future__ import annotations

from catenum.engines.innodb.restore import SHAPE, DataRestorer


class MariadbRestorer(DataRestorer):
    """See ``DataRestorer``."""

    shape = (
        *SHAPE,
        (
            "select 'check', concat_ws('|', table_name, constraint_name, check_clause) "
            "from information_schema.check_constraints where constraint_schema = %s"
        ),
    )
    digest = "md5({})"
    sequence_names = (
        "select table_name from information_schema.tables "
        "where table_schema = %s and table_type = 'SEQUENCE' order by table_name"
    )
    sequence_text = (
        "(select concat_ws('|', next_not_cached_value, start_value, minimum_value, maximum_value,"
        " increment, cache_size, cycle_option, cycle_count) from {})"
    )
    sequence_back = "alter sequence {} restart {}"
