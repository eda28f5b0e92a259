"""Some damaged images of each form for every reader; `make mutations` runs thousands."""

import subprocess
import sys
import unittest
from pathlib import Path

from tests.mutations import FORMS


class NothingThatIsDamagedDoesHarm(unittest.TestCase):
    def test_each_form(self) -> None:
        words = [sys.executable, "-m", "tests.mutations", "40"]
        done = subprocess.run(words, cwd=Path(__file__).parent.parent, capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        for form in FORMS:
            self.assertRegex(done.stdout, rf"(?m)^{form}: 40 images, \d+ refused")


if __name__ == "__main__":
    unittest.main()
