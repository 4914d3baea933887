"""Several tries side by side, on all cores."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from functools import cache
from threading import Lock
from typing import Any, TypeVar

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


# Does some work with the arguments of each item; the results are in the items' order.
Run = Callable[[Callable[..., Any], Iterable[tuple[Any, ...]]], list[Any]]


@contextmanager
def sharing(threads: int) -> Iterator[Run]:
    """A function that shares work among so many threads; BLAS itself stays on one.

    The one that asks works too, so that short work doesn't wait for another thread to wake. Items
    are taken one by one as they are needed: of an iterator few exist at a time.
    """
    with one_blas_thread():
        if threads == 1:
            yield lambda work, items: [work(*item) for item in items]
            return
        with ThreadPoolExecutor(threads - 1) as pool:

            def run(work: Callable[..., Any], items: Iterable[tuple[Any, ...]]) -> list[Any]:
                waiting, lock, done = enumerate(items), Lock(), dict[int, Any]()

                def take() -> None:
                    nonlocal waiting
                    try:
                        while True:
                            with lock:
                                number, item = next(waiting, (-1, ()))
                            if number < 0:
                                return
                            done[number] = work(*item)
                    except BaseException:
                        waiting = enumerate(())  # the others begin nothing more
                        raise

                others = [pool.submit(take) for _ in range(threads - 1)]
                try:
                    take()
                finally:
                    begun = [other for other in others if not other.cancel()]
                for other in begun:
                    other.result()
                return [done[number] for number in sorted(done)]

            yield run


def beside(
    first: Callable[[], In], second: Callable[[], Out], threads: int | None
) -> tuple[In, Out]:
    """The results of both, one beside the other where there are threads for that; each may use
    `sharing` too."""
    with sharing(min(threads or cores(), 2)) as run:
        one, other = run(lambda work: work(), [(first,), (second,)])
    return one, other


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
