"""The one way in which a verb is run, by the command line, from Python, and by whatever runs steps."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from zembrel.engine.cluster import cluster_at
from zembrel.inputs.options import Output
from zembrel.reading import readings
from zembrel.results.history import check_beside, write_beside
from zembrel.results.receipt import Receipt, finished
from zembrel.results.record import recorded, said
from zembrel.results.verboptions import typed_names
from zembrel.version import program_version
from zembrel.web.traffic import traffic


@contextmanager
def _placed(arguments: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
    """`arguments` with the cluster open that they ask for. Raises UsageError, ResourceError."""
    name, output = next(
        ((name, value) for name, value in arguments.items() if isinstance(value, Output)), ("", Output())
    )
    if output.cluster is None or output.executor is not None or output.dry_run:
        yield arguments
        return
    with cluster_at(output.cluster, output.limits.memory * 3 // 8) as cluster:
        yield {**arguments, name: output.on(cluster)}


def performed(
    function: Callable[..., Receipt],
    arguments: Mapping[str, Any],
    verb: str,
    *,
    record: bool = True,
    sums: bool = False,
) -> Receipt:
    """The receipt of `function` called with `arguments`, as a run of its own of `verb`.

    record: whether the receipt tells what
    was read and done; sums: with checksums of small files. Raises ZembrelError.
    """
    with readings.run(), traffic.counted() as web, _placed(arguments) as arguments:
        readings.act(verb, program_version(), said(function, arguments, typed_names(verb)))
        output = next((value for value in arguments.values() if isinstance(value, Output)), Output())
        if output.provenance and output.out is not None:
            check_beside(output.path, replace=output.replace)
        receipt = finished(function(**arguments), web.facts)
        if output.provenance:
            write_beside(readings.written, replace=output.replace)
        return recorded(receipt, arguments, checksums=sums) if record else receipt
