"""Lock modes and which of them conflict: each server's own tables, in a module of the server's name."""

from catenum.core.locks.modes import Conflict, ModeTable, lock_rules

__all__ = ["Conflict", "ModeTable", "lock_rules"]
