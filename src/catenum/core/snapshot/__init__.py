"""A running server at one moment: who waits for whom, and the incidents that moments add up to."""
