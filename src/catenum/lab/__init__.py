"""Runs scenarios: one schedule (``play``), or a baseline and its remedies side by side
(``trial``).
"""
