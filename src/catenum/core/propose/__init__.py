"""Changes that could end a scenario's conflicts, derived from what was seen of it: pure, and not
tried yet.

A pass looks for one kind of change. It takes the evidence and gives *series*: candidates of which
the first that cures makes the rest needless, such as a row lock and the stronger ones. A new kind
is a module with ``derive`` and a line in ``passes``.
"""
