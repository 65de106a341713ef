"""Running one schedule: the conductor decides the moves, the driver makes them, play records
them.
"""
