"""Derives changes from what was seen of a scenario, and tries them."""
