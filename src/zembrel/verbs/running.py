"""The one way in which a verb is run, by the command line, from Python, and by whatever runs steps."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from zembrel.reading import readings
from zembrel.verbs.receipt import Receipt, finished
from zembrel.verbs.record import recorded


def performed(
    function: Callable[..., Receipt], arguments: Mapping[str, Any], *, record: bool = True, sums: bool = False
) -> Receipt:
    """The receipt of `function` called with `arguments`, as a run of its own.

    record: whether it tells what was read and done; sums: with checksums of small files. Raises ZembrelError.
    """
    with readings.run():
        receipt = finished(function(**arguments))
        return recorded(receipt, arguments, checksums=sums) if record else receipt
