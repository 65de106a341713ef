"""The MySQL engine: sessions, data and lock pictures over PyMySQL, which connects to this server too."""

from catenum.engines.mysql.engine import MysqlEngine, connect

__all__ = ["MysqlEngine", "connect"]
