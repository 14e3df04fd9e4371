"""Long trials that continuous integration has no time for: ``python -m benchmarks.soak [KILLS]``.

Kills a pull at random moments (200 times unless said), verifies the vault after each, then lets two
processes pull at once. The trial is the one of the tests, with more kills.
"""

import os
import sys
import time
import unittest


def main(kills):
    os.environ["ULTRUM_KILLS"] = str(kills)
    from tests.test_desk import Pulling

    start = time.monotonic()
    suite = unittest.TestSuite([Pulling("test_killed_while_pulling_and_two_at_once")])
    result = unittest.TextTestRunner(verbosity=0).run(suite)
    said = "nothing lost, nothing damaged" if result.wasSuccessful() else "FAILED"
    print(f"{kills} kills in {time.monotonic() - start:.0f} s: {said}")
    return 0 if result.wasSuccessful() else 1


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 200))
