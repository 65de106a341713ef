"""MySQL (8.0 and later), through PyMySQL, which connects to it too: ``engine`` for runs,
``monitor`` for watching.
"""

import pymysql  # noqa: F401 - a driver that is missing is noticed before anything is started
