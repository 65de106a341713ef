"""MariaDB (10.6 and later) with InnoDB, through PyMySQL: ``engine`` for runs, ``monitor`` for
watching.
"""

import pymysql  # noqa: F401 - a driver that is missing is noticed before anything is started
