"""Every number and word of the public functions is that of the last version, or the change is meant."""

import json
import unittest

from tests.recorded import FILE, GROUPS, differences

_CHANGED = ("Is it meant? Then run `python -m tests.recorded`, read what git shows, and list numbers that changed in "
            "CHANGELOG.md.")  # fmt: skip


class Recorded(unittest.TestCase):
    def compare(self, group):
        found = differences(GROUPS[group](), json.loads(FILE.read_text(encoding="utf-8"))[group])
        self.assertEqual(found[:20], [], f"{len(found)} differences. {_CHANGED}")

    def test_functions(self):
        self.compare("functions")

    def test_practice_world(self):
        self.compare("practice")

    def test_results(self):
        self.compare("results")

    def test_conversions(self):
        self.compare("time")

    def test_combinations(self):
        self.compare("combinations")

    def test_tables(self):
        self.compare("tables")

    def test_studies(self):
        self.compare("studies")

    def test_odd_input(self):
        self.compare("odd input")

    def test_a_changed_number_word_or_warning_is_found(self):
        then = json.loads(FILE.read_text(encoding="utf-8"))["results"]
        now = json.loads(json.dumps(then))
        self.assertEqual(differences(now, then), [])
        now["results cost"]["numbers"]["frame/cost_of_equity"][2] *= 1.0001
        now["results fit words"]["words"][0] += "!"
        del now["results coverage"]
        self.assertEqual([line[:26] for line in differences(now, then)],
                         ["results coverage: gone", "results cost: frame/cost_o", "results fit words: words ["])  # fmt: skip
