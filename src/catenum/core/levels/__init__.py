"""Isolation levels: what each one prevents, and which one a piece of work needs."""
