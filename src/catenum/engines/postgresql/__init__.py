"""PostgreSQL (13 and later) through psycopg: control connection, sessions, and what its lock tables mean."""

from catenum.engines.postgresql.engine import PostgresqlEngine, connect

__all__ = ["PostgresqlEngine", "connect"]
