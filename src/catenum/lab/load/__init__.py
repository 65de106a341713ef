"""Running transactions in loops, uncontrolled, until timing brings a conflict about."""
