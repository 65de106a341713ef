"""Pure computation: what a scenario says, what a schedule is, what waits mean. No I/O, no driver,
no printing.
"""
