"""One at a time, over all server processes: what many ask for at once is worked out by the first,
and the others wait for it."""

import fcntl
import hashlib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

from django.conf import settings


@contextmanager
def alone(kind: str, what: str, patient: bool = True) -> Iterator[bool]:
    """Hold `what`; whoever asks for it meanwhile waits. Look again inside whether somebody else has
    done the work.

    Yields False, at once, where somebody else holds it and one isn't `patient`. The lock is a
    file's, which the system lets go when its holder ends, however it ends; there are 256 of each
    kind, so now and then one waits for another's. Within one kind only one can be held at a time.
    """
    folder = settings.DATA / "locks"
    name = f"{kind}-{hashlib.sha256(what.encode()).hexdigest()[:2]}"
    with ExitStack() as stack:
        try:
            folder.mkdir(parents=True, exist_ok=True)
            file = stack.enter_context(open(folder / name, "wb"))
            fcntl.flock(file, fcntl.LOCK_EX if patient else fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            yield False
            return
        except OSError:  # a full disk, say: the work may be done twice
            pass
        yield True
