"""What a run saw, as plain values: the recording, the wait graph, lock modes and resources, the
outcome.
"""
