"""The scenarios that ship, all set in the made-up port of Marrowgate Harbour."""
