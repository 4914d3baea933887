"""Who refers to blobs. Each app that holds digests registers a source; the garbage collector asks
them all.

In stored JSON a blob is referred to as `{"blob": "<digest>"}`, at any depth.
"""

from collections.abc import Callable, Iterable, Iterator

_sources: list[Callable[[], Iterable[str]]] = []
# What else is swept: a function of a grace period (seconds) and whether only to say so, that gives
# (name, bytes) each.
Sweep = Callable[[float, bool], list[tuple[str, int]]]
sweeps: list[Sweep] = []


def register(source: Callable[[], Iterable[str]]) -> None:
    """Add a source: a function that yields every digest that its app still needs."""
    if source not in _sources:
        _sources.append(source)


def register_sweep(sweep: Sweep) -> None:
    """Add what an app sweeps of its own folders."""
    if sweep not in sweeps:
        sweeps.append(sweep)


def digests_in_use() -> set[str]:
    """All digests that somebody refers to."""
    return {digest for source in _sources for digest in source()}


def referred(value) -> Iterator[str]:
    """The digests that a JSON value refers to."""
    if isinstance(value, dict):
        if isinstance(value.get("blob"), str):
            yield value["blob"]
        value = list(value.values())
    if isinstance(value, list):
        for item in value:
            yield from referred(item)
