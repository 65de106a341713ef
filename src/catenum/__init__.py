"""Catenum reproduces blocking and deadlocks with concurrent transactions, explains them, and proves
the fix.
"""

__version__ = "0.1.0"
