"""The unit tests of the pages' scripts, by node's own runner; `tests/scripts/`."""

import subprocess
from pathlib import Path
from unittest import TestCase

FOLDER = Path(__file__).parents[1] / "scripts"


class Scripts(TestCase):
    def test_all(self):
        files = sorted(map(str, FOLDER.glob("*.test.mjs")))
        done = subprocess.run(["node", "--test", *files], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertRegex(done.stdout, r"# pass [1-9]")
