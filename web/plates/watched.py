"""Long reading of a film behind a fence, with somebody who looks how far it is."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from pathlib import Path
from typing import Any

from aperture.fence import Fence

LONGEST = 1800  # seconds for one call; a movie with one key picture is one part
SECONDS_BETWEEN_LOOKS = 0.4


def run_watched(look: Callable[[], None], function: Callable[..., Any], *args: Any) -> Any:
    """What `function` returns behind a fence of its own; `look` is called meanwhile, and what it
    raises ends the work."""
    # Left in the other order: the fence ends its process first, for which the thread then need not
    # wait.
    with ThreadPoolExecutor(1) as pool, Fence(seconds=LONGEST) as fence:
        making = pool.submit(fence.run, function, *args)
        while not making.done():
            wait([making], SECONDS_BETWEEN_LOOKS)
            look()
        return making.result()


def counted(count: Path, whole: int, progress: Callable[[float], None]) -> Callable[[], None]:
    """A look at a file in which a function keeps how many of a `whole` it has done."""

    def look() -> None:
        done = count.read_text() if count.exists() else ""
        progress(int(done or 0) / whole)

    return look
