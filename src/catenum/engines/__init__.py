"""One module a server, behind the protocol they share. Everything that knows a driver lives
here.
"""
