"""The version: here and nowhere else."""

__version__ = "0.1.0"
