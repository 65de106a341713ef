"""A running server at one moment: who waits for whom, and the episodes that moments add up to."""
