"""Whatever an argument is, a public function gives an answer or an error of Ultrum."""

import inspect
import re
import unittest
import warnings
from unittest import mock

import numpy as np
import pandas as pd

import ultrum as ul
from tests.properties.calls import Things, calls
from tests.support import compare_with_record, without_causes
from ultrum.core.pricing import hierarchical_costs
from ultrum.errors import UltrumError

_GIVEN = re.compile(r"was given (an?|the|nothing)\b[^.;]*")  # test_arguments has the words for each kind


def odd_values(things):
    """Values of every kind that some argument may be given by mistake."""
    return [
        None, [], {}, "", "x", 0, -1, 10**30, float("nan"), float("inf"), True, 3.7, 1 + 2j, b"x", object(),
        ["x"], {"x": 1}, np.zeros(0), pd.Series(dtype=float), pd.DataFrame(), pd.Timestamp("2020-01-01"),
        things.cpi, things.prices, things.panel, len,
    ]  # fmt: skip


class OddArguments(unittest.TestCase):
    def test_every_argument_of_every_function(self):
        things = Things()
        refused, foreign, messages = 0, [], {}
        quick = mock.patch.object(hierarchical_costs, "_BURNED", 1)  # the draws before those that count
        with warnings.catch_warnings(), np.errstate(all="ignore"), quick:
            warnings.simplefilter("ignore")
            for name, (given, said) in calls(things).items():
                function = getattr(ul, name)
                right = inspect.signature(function).bind(*given, **said)
                for place, parameter in right.signature.parameters.items():
                    if parameter.kind in (parameter.VAR_KEYWORD, parameter.VAR_POSITIONAL):
                        continue
                    for odd in odd_values(things):
                        changed = inspect.BoundArguments(right.signature, right.arguments | {place: odd})
                        try:
                            function(*changed.args, **changed.kwargs)
                        except UltrumError as error:
                            refused += 1
                            text = _GIVEN.sub("was given …", without_causes(error))
                            messages.setdefault(name, set()).add(text)
                        except Exception as error:
                            foreign.append(f"{name}({place}={odd!r:.40}): {error!r:.120}")
        self.assertEqual(foreign, [])
        self.assertGreater(refused, 5_000)
        alike = {text.replace(name, "FUNCTION") for name, texts in messages.items() for text in texts}
        compare_with_record(self, "properties.odd_arguments", {"all": sorted(alike)})
