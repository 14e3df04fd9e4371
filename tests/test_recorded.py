"""Numbers of a panel with known betas and the words of commands are those on record, subject by subject."""

import re
import unittest
from functools import partialmethod

import numpy as np

import ultrum as ul
from tests.recorded import BETAS, COMMANDS, SUBJECTS, Known, differences, numbers_of, on_record, printed


class Recorded(unittest.TestCase):
    maxDiff = None

    def compare(self, subject):
        found = differences(numbers_of(subject), on_record(subject))
        accept = f"If it is meant: python -m tests.recorded {subject}, and list the numbers in CHANGELOG.md."
        self.assertEqual(found, [], f"{len(found)} differences. {accept}")

    def test_a_number_that_moves_is_shown_with_both_values(self):
        then = {"regress": {"a/market": 1.0, "b/market": 2.0, "gone": 3.0}, "trail": {"refused": "no"}}
        now = {"regress": {"a/market": 1.01, "b/market": 2.0 + 1e-12}, "trail": {"numbers": 3}}
        self.assertEqual(differences(now, then), [
            "regress, a/market: 1.0 -> 1.01 (+1.00%)", "regress, gone: 3.0 -> None",
            "trail, refused: no -> None", "trail, numbers: None -> 3"])  # fmt: skip

    def test_the_betas_on_record_are_those_that_are_known(self):
        table = ul.factor_betas(Known().three)
        names = list(BETAS)
        apart = (table.coefficients[names] - BETAS) / table.standard_errors[names]
        self.assertLess(float(np.abs(apart).max(axis=None)), 3.5)
        self.assertLess(float(np.abs(table.coefficients[names] - BETAS).max(axis=None)), 0.35)

    def test_commands_print_what_is_on_record(self):
        got, want = (re.sub(r"\d+\.\d{12,}(e-\d+)?", lambda m: f"{float(m[0]):.12g}", text)
                     for text in (printed(), COMMANDS.read_text(encoding="utf-8")))  # fmt: skip
        self.assertEqual(got, want)


for _subject in SUBJECTS:
    setattr(Recorded, f"test_{_subject}", partialmethod(Recorded.compare, _subject))
