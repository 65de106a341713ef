"""MariaDB (10.6 and later) with InnoDB, through PyMySQL."""

from catenum.engines.mariadb.engine import MariadbEngine, connect

__all__ = ["MariadbEngine", "connect"]
