"""PostgreSQL (13 and later), through psycopg: ``engine`` for runs, ``monitor`` for watching."""

import psycopg  # noqa: F401 - a driver that is missing is noticed before anything is started
