"""What a text of SQL says by itself: what it reads and writes, where a script is cut, how literals
are masked.
"""
