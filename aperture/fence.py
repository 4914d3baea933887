"""Runs functions that read somebody else's files in a process of its own, with limits of memory and
time.

Decoders trust what a file says of itself: a few hundred bytes can ask for 20 GB, or loop for hours.
Such a function runs here in a fresh interpreter, which the operating system stops where it goes
beyond the limits; the caller, a web server with many people on it, only waits. A function that is
run this way is importable, takes and returns what can be pickled, and writes very large results
into files whose paths it is given.
"""

from __future__ import annotations

import importlib
import os
import pickle
import re
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import IO, Any

from aperture.errors import Problem

MEMORY_BYTES = 2 * 1024**3
SECONDS = 60
# Fences that stand at the same time for one process of ours, and on one machine for all of them;
# others wait their turn.
AT_ONCE, ON_MACHINE = 2, 4
PAUSE_SECONDS = 0.05  # between two looks whether a place on the machine has become free
_COUNT_BYTES = 8

# A process that has taken more than this is not used again: what it has freed may still be its own.
LARGEST_REUSED = 512 * 1024**2

_turns = threading.BoundedSemaphore(AT_ONCE)
# Processes that wait for the next call, by who started them (a forked server must not share them)
# and their limit. Each ends by itself once its starter is gone, as nothing can be read any more.
_waiting: dict[tuple[int, int], list[subprocess.Popen[bytes]]] = {}
_made_ready: set[tuple[int, int]] = set()


def run_fenced(function: Callable[..., Any], *args: Any, **named: Any) -> Any:
    """Return what `function` returns for these arguments, computed behind a fence of its own.
    Raises as `Fence.run`."""
    with Fence() as fence:
        return fence.run(function, *args, **named)


def get_ready(function: Callable[..., Any]) -> None:
    """Have a process wait that has loaded what `function` needs, where none waits yet; in the
    background.

    To start one takes a second, which whoever asks first would have to wait.
    """
    key = (os.getpid(), MEMORY_BYTES)
    if key not in _waiting and key not in _made_ready:
        _made_ready.add(key)
        load = threading.Thread(target=run_fenced, args=(_load, function.__module__), daemon=True)
        load.start()


class Fence:
    """A process for several calls, one after the other; used as a context.

    Parameters
    ----------
    memory : int
        Bytes that the process may hold of its own (RLIMIT_DATA).
    seconds : int
        How long one call may take.
    """

    def __init__(self, memory: int = MEMORY_BYTES, seconds: int = SECONDS) -> None:
        self.memory, self.seconds = memory, seconds
        self._process: subprocess.Popen[bytes] | None = None
        self._most_bytes = 0
        self._asked = False  # and not answered yet
        self._place: IO[bytes] | None = None

    def __enter__(self) -> Fence:
        _turns.acquire()
        self._place = _taken_place()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        if self._process is not None and not self._asked and self._most_bytes < LARGEST_REUSED:
            _waiting.setdefault((os.getpid(), self.memory), []).append(self._process)
        else:
            self._end()
        if self._place is not None:
            self._place.close()
        _turns.release()

    def run(self, function: Callable[..., Any], *args: Any, **named: Any) -> Any:
        """Return what `function` returns for these arguments.

        Raises
        ------
        Problem
            What the function raises; or a sentence where it needs more than it may, or dies. After
            that the next call begins with a fresh process.
        """
        process = self._started()
        late = threading.Event()

        def stop() -> None:
            late.set()
            process.kill()

        watch = threading.Timer(self.seconds, stop)
        watch.start()
        self._asked = True
        try:
            _send(process.stdin, (function.__module__, function.__qualname__, args, named))
            kind, value, self._most_bytes = _receive(process.stdout)
            self._asked = False
        except (EOFError, BrokenPipeError, ConnectionError):
            self._end()
            says = "This file can't be read: the reader broke down over it. Export it again."
            if late.is_set():
                says = (
                    f"This file took longer than {self.seconds} seconds to read, so it was left. "
                    "Nothing was changed."
                )
            raise Problem(says, "file") from None
        finally:
            watch.cancel()
        if kind == "value":
            return value
        if kind == "memory":
            self._end()
            raise Problem(
                f"This file needs more than {self.memory / 1024**3:.2g} GB of memory to read, so it"
                " was left. Save it smaller.",
                "file",
            )
        raise value

    def _started(self) -> subprocess.Popen[bytes]:
        waiting = _waiting.get((os.getpid(), self.memory))
        if self._process is None and waiting:
            self._process = waiting.pop()
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", __name__, str(self.memory)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                env=_environment(),
            )
        return self._process

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.communicate()
            self._process = None
        self._asked = False


def _taken_place() -> IO[bytes] | None:
    """One of the machine's places, waited for, as a locked file: closing it gives the place back,
    and so does the end of this process, however it ends.

    None where no such file can be had (a full disk, another system): then only AT_ONCE holds.
    """
    try:
        import fcntl

        folder = Path(tempfile.gettempdir(), f"aperture-readers-{os.getuid()}")
        folder.mkdir(mode=0o700, exist_ok=True)
        places = [open(folder / str(number), "ab") for number in range(ON_MACHINE)]
    except (ImportError, OSError):
        return None
    try:
        while True:
            for place in places:
                with suppress(BlockingIOError):
                    fcntl.flock(place, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    places.remove(place)
                    return place
            time.sleep(PAUSE_SECONDS)
    except OSError:  # a file system without locks
        return None
    finally:
        for place in places:
            place.close()


def _environment() -> dict[str, str]:
    """One thread, as each one's own memory counts; and this package found wherever the caller
    stands."""
    root = str(Path(__file__).parents[1])
    path = os.pathsep.join([root, *filter(None, [os.environ.get("PYTHONPATH")])])
    threads = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    return {**os.environ, **threads, "PYTHONPATH": path}


def _send(stream: IO[bytes] | None, value: Any) -> None:
    assert stream is not None
    data = pickle.dumps(value, protocol=5)
    stream.write(len(data).to_bytes(_COUNT_BYTES, "big"))
    stream.write(data)
    stream.flush()


def _receive(stream: IO[bytes] | None) -> Any:
    assert stream is not None
    count = stream.read(_COUNT_BYTES)
    if len(count) < _COUNT_BYTES:
        raise EOFError
    data = stream.read(int.from_bytes(count, "big"))
    return pickle.loads(data)


def _load(module: str) -> None:
    importlib.import_module(module)


def _most_bytes() -> int:
    """The most memory that this process ever held, bytes; 0 where the system doesn't say.

    Not `getrusage`: a process's `ru_maxrss` begins with that of the one that started it.
    """
    try:
        status = Path("/proc/self/status").read_text()
    except OSError:
        return 0
    found = re.search(r"VmHWM:\s+(\d+) kB", status)
    return int(found[1]) * 1024 if found else 0


def _limit(memory: int) -> None:
    try:
        import resource
    except ImportError:  # not on this system: the caller's limit of time is left
        return
    hard = resource.getrlimit(resource.RLIMIT_DATA)[1]
    limit = memory if hard < 0 else min(memory, hard)
    resource.setrlimit(resource.RLIMIT_DATA, (limit, hard))


def _called(module: str, name: str, args: tuple[Any, ...], named: dict[str, Any]) -> Any:
    function: Any = importlib.import_module(module)
    for part in name.split("."):
        function = getattr(function, part)
    return function(*args, **named)


def _main() -> None:
    # What decoders print must not come between the bytes of the answers.
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    _limit(int(sys.argv[1]))
    while True:
        try:
            order = _receive(sys.stdin.buffer)
        except EOFError:
            return
        try:
            answer = ("value", _called(*order))
        except Problem as problem:
            answer = ("error", Problem(problem.sentence, problem.place))
        except MemoryError:
            answer = ("memory", None)
        except OSError as error:
            answer = ("error", OSError(*error.args))
        _send(answers, (*answer, _most_bytes()))
        del order, answer


if __name__ == "__main__":
    _main()
