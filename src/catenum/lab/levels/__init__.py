"""Isolation levels, tried on a server."""
