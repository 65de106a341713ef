"""Exploring on the worker processes of a Dask cluster, each with a server of its own.

Nothing here schedules: Dask gives tasks to workers, moves them where others are idle, and begins
those of a lost worker again. A task is a turn of a walk (``walks``), a whole exploration (``jobs``)
or any other function of plain values.
"""
