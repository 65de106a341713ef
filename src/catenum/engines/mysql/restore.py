"""What MySQL's catalogue tells of definitions, beside what every server with InnoDB does."""

from __future__ import annotations

from catenum.engines.innodb.restore import SHAPE, DataRestorer


class MysqlRestorer(DataRestorer):
    """See ``DataRestorer``."""

    shape = (
        *SHAPE,
        (
            "select 'key part', concat_ws('|', table_name, index_name, seq_in_index, expression,"
            " is_visible, collation) from information_schema.statistics where table_schema = %s"
        ),
        (
            "select 'check', concat_ws('|', t.table_name, c.constraint_name, c.check_clause,"
            " t.enforced) from information_schema.check_constraints c join"
            " information_schema.table_constraints t on t.constraint_schema = c.constraint_schema"
            " and t.constraint_name = c.constraint_name where c.constraint_schema = %s"
        ),
    )
    #: MD5 and SHA1 are components of the server from 9.6 on.
    digest = "sha2({}, 224)"
    #: The catalogue's numbers of rows, of keys and of AUTO_INCREMENT are those of a day ago
    #: otherwise.
    freshly = f"{DataRestorer.freshly}, information_schema_stats_expiry = 0"
