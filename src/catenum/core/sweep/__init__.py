"""All ways in which the parameters of transactions can coincide, and what that comes to."""
