"""A slow and simple check of what ``explore`` says, which shares nothing with it but the servers'
drivers.

``walk`` makes every order of moves, each on data loaded anew, and judges each end against every
serial order. ``generate`` makes scenarios over the SQL that the servers take. ``compare`` sets both
accounts side by side.
"""
