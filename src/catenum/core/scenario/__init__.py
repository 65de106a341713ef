"""The scenario file: its model, reading it, remedies, filler rows, values and conditions."""
