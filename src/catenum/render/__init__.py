"""Shows core objects: terminal, figure, JSON. Nothing is recomputed here, so that all faces
agree.
"""
