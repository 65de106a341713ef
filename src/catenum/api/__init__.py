"""Each command as a typed function, without argparse: what ``import catenum`` gives, and what the
command line calls.
"""
