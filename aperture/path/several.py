"""Several tries side by side, on all cores."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager
from functools import cache
from typing import TypeVar

from threadpoolctl import ThreadpoolController

In = TypeVar("In")
Out = TypeVar("Out")


def cores() -> int:
    """How many this process may use."""
    return len(os.sched_getaffinity(0))


def one_blas_thread() -> AbstractContextManager[object]:
    """BLAS itself stays on one thread meanwhile."""
    return _libraries().limit(limits=1, user_api="blas")


@cache
def _libraries() -> ThreadpoolController:
    """Looked for once: NumPy's and SciPy's are loaded by then, and to look takes 5 ms."""
    import scipy.linalg  # noqa: F401

    return ThreadpoolController()


def several(
    work: Callable[[In], Out],
    items: Sequence[In],
    threads: int,
    done: Callable[[int], None],
) -> list[Out]:
    """The results of `work` for all items, in their order; `done` is told the number of each one in
    turn, and what it raises ends the rest."""
    out: list[Out] = []
    if threads == 1:
        for number, item in enumerate(items):
            out.append(work(item))
            done(number)
        return out
    # A bundle sets the threads of BLAS and puts them back: two at once would put back each other's.
    with one_blas_thread(), ThreadPoolExecutor(threads) as pool:
        futures = [pool.submit(work, item) for item in items]
        try:
            for number, future in enumerate(futures):
                out.append(future.result())
                done(number)
        finally:
            for future in futures:
                future.cancel()
    return out
