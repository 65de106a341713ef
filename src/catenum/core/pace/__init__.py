"""Load at isolation levels: what was measured, and what can be said of it."""
