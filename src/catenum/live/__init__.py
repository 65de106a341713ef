"""Watches running servers: followers that sample, the store that keeps, alerts."""
