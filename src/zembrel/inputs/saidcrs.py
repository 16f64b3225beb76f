"""The CRS of an input: what its file says, or --from-crs where it says nothing."""

from __future__ import annotations

from zembrel.errors import InputError
from zembrel.geodesy.crs import CRS, label, same, vertical_of
from zembrel.inputs.options import Inputs
from zembrel.inputs.within import said_crs


def crs_of(name: object, own: CRS | None, options: Inputs) -> CRS | None:
    """The CRS that a file of that name is in; own: what it says.

    Raises InputError where the options say another, do not overrule the file, and no other file of the call
    is meant.
    """
    crs = said_crs(options)
    if crs is None:
        return own
    added = same(own, crs) and vertical_of(own) is None and vertical_of(crs) is not None
    if own is None or options.force_crs or added:
        return crs
    if options.crs_of_others or (same(own, crs) and vertical_of(crs) in (None, vertical_of(own))):
        return own
    raise InputError(
        f"{name} says it is in {label(own)}, not {label(crs)}",
        "--from-crs is for files that do not say",
        "leave --from-crs out, or add --force-crs to overrule the file",
    )
