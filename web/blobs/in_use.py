"""Who refers to blobs. Each app that holds digests registers a source; the garbage collector asks them all.

In stored JSON a blob is referred to as `{"blob": "<digest>"}`, at any depth.
"""

from collections.abc import Callable, Iterable, Iterator

_sources: list[Callable[[], Iterable[str]]] = []


def register(source: Callable[[], Iterable[str]]) -> None:
    """Add a source: a function that yields every digest that its app still needs."""
    if source not in _sources:
        _sources.append(source)


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
