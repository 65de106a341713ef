"""Expectations of scenarios held against servers: results, and the statements to blame."""
