"""Lets ``python -m catenum`` do what the ``catenum`` script does."""

from catenum.cli.main import entry

if __name__ == "__main__":
    entry()
