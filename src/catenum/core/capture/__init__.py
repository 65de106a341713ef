"""Captured conflicts: grouped, told as recordings, and made into scenarios. What reads a server's log is elsewhere."""
