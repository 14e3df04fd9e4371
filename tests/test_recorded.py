"""Numbers and words of the public functions are those on record; a change is written down."""

import json
import unittest
from functools import partialmethod

from tests.recorded import FILE, GROUPS, differences

_CHANGED = (
    "If it is meant: `python -m tests.recorded`, read what git shows, list changed numbers in CHANGELOG.md."
)


class Recorded(unittest.TestCase):
    def compare(self, group):
        found = differences(GROUPS[group](), json.loads(FILE.read_text(encoding="utf-8"))[group])
        self.assertEqual(found[:20], [], f"{len(found)} differences. {_CHANGED}")

    def test_a_changed_number_word_or_warning_is_found(self):
        then = json.loads(FILE.read_text(encoding="utf-8"))["results"]
        now = json.loads(json.dumps(then))
        self.assertEqual(differences(now, then), [])
        now["results cost"]["numbers"]["frame/cost_of_equity"][4] *= 1.0001
        now["results fit words"]["text"][0] += "!"
        del now["results coverage"]
        self.assertEqual([line[:26] for line in differences(now, then)],
                         ["results coverage: gone", "results cost: frame/cost_o", "results fit words: text ['"])  # fmt: skip


for _group in GROUPS:
    setattr(Recorded, f"test_{_group.replace(' ', '_')}", partialmethod(Recorded.compare, _group))
