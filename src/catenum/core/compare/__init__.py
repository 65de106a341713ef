"""Comparing variants: what was measured, and the verdict."""
