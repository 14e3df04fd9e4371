"""Keywords of the public functions mean one thing each, as docs/glossary.md defines them."""

import inspect
import re
import unittest
from collections import defaultdict

import ultrum as ul
from tests.support import ROOT

RETIRED = {
    "about",
    "most",
    "by",
    "made",
    "max_draws",
    "weights_by",
    "method",
}  # other words for what the glossary has
DEFAULTS = {"draws": {999}, "errors": {"hac"}, "seed": {0}, "stale_after": {5}, "offline": {False}}
PATHS = {"to", "path"}
NEVER_EMPTY = {
    "start",
    "end",
    "since",
    "until",
    "on",
    "at",
    "currency",
    "skip",
    "timezone",
    "session_close",
    "to",
}


def parameters():
    """Function and parameter of everything public that takes keywords; fields of results are not keywords."""
    functions = {n: f for n in ul.__all__ if inspect.isfunction(f := getattr(ul, n))}
    functions |= {f"figures.{n}": f for n, f in vars(ul.figures).items() if inspect.isfunction(f)}
    functions |= {f"Desk.{n}": f for n, f in vars(ul.Desk).items() if inspect.isfunction(f)}
    for name, function in functions.items():
        for parameter in inspect.signature(function).parameters.values():
            yield name, parameter


class Glossary(unittest.TestCase):
    def test_each_keyword_means_one_thing(self):
        page = (ROOT / "docs" / "glossary.md").read_text(encoding="utf-8")
        defined = {
            word
            for row in re.findall(r"^\| (`.*?) \|", page, re.M)
            for word in re.findall(r"`(\w+)`", row)
        }
        defaults, used, wrong = defaultdict(set), set(), []
        for function, parameter in parameters():
            used.add(parameter.name)
            if parameter.name in RETIRED or (
                parameter.name in NEVER_EMPTY and parameter.default == ""
            ):
                wrong.append(f"{function}({parameter})")
            if parameter.name in DEFAULTS and parameter.default is not parameter.empty:
                defaults[parameter.name].add(parameter.default)
            if parameter.name in PATHS and not re.search("PathLike|str", str(parameter.annotation)):
                wrong.append(f"{function}({parameter})")
        self.assertEqual(wrong, [])
        self.assertEqual({k: v for k, v in defaults.items() if v != DEFAULTS[k]}, {})
        self.assertEqual(
            defined - used, set(), "the glossary defines keywords that no function has"
        )
        shared = {
            p.name for _, p in parameters() if sum(q.name == p.name for _, q in parameters()) > 4
        }
        words = "self ax x title source name panel table series facts prices dividends splits address filters"
        plain = {*words.split(), "betas", "fit", "result", "value", "unit"}
        self.assertEqual(
            shared - defined - plain, set(), "keywords of five functions or more need a line"
        )


if __name__ == "__main__":
    unittest.main()
