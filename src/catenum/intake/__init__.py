"""From servers' logs and reports to recordings, and from recordings to scenarios that reproduce
them.
"""
