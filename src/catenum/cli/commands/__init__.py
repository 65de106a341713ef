"""One thin module a command: its options, and what it calls."""
