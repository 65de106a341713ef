"""Findings: each is one pass over a recording, with one signature, in a module of its name."""
