"""Runs every distinct way in which parameters coincide."""
