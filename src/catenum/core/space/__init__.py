"""The space of schedules: dependence, search, counting, the serial oracle, anomalies, the tally and
its claims.
"""
