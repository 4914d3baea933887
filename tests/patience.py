"""Waiting in tests. A machine may be a hundred times busier than ours: only what never happens ends
a wait."""

import os
import time

# While writing a test one needn't wait that long: `PATIENCE_MINUTES=0.3 make test`.
MINUTES = float(os.environ.get("PATIENCE_MINUTES", "10"))


def wait_until(happened, says="what the test waits for never happened"):
    """Call `happened` until it returns something true, and return that; AssertionError with `says`
    after ten minutes."""
    end = time.monotonic() + MINUTES * 60
    while time.monotonic() < end:
        if found := happened():
            return found
        time.sleep(0.05)
    raise AssertionError(says() if callable(says) else says)
