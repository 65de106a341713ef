"""What a watch saw, and what logs tell: one schema, what is written to it, what is asked of it, in
rows with types.
"""
