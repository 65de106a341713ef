"""Profiles that a person gives: read, and refused where they would run a stranger's code."""

from __future__ import annotations

from pathlib import Path

from catenum.core.errors import InputError, Place
from catenum.core.servers import register
from catenum.core.servers.profile import Profile, read_profile


def use_profile(file: str | Path, *, trust: bool = False) -> Profile:
    """From now on there is the server that a profile describes.

    ``trust``: whatever driver it names is imported. Raises InputError for a profile that is wrong,
    or that names a driver which nobody has vouched for.
    """
    from catenum.engines.by_profile.driver import refuse_strangers

    path = Path(file)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(
            f"cannot be read: {error.strerror or error}", place=Place(str(file))
        ) from error
    profile = read_profile(data, str(file))
    if not trust:
        refuse_strangers(profile, str(file))
    register(profile)
    return profile
