"""Keywords mean one thing each, as docs/glossary.md defines them; docstrings name the parameters there are."""

import ast
import inspect
import re
import unittest
from collections import Counter, defaultdict

import ultrum as ul
from tests.support import ROOT

# Other words for what the glossary has.
RETIRED = {"about", "most", "by", "made", "max_draws", "weights_by", "method"}
DEFAULTS = {"draws": {999}, "errors": {"hac", None}, "seed": {0}, "stale_after": {5}, "offline": {False}}
SECTION = r"Parameters\n-+\n(.*?)(?:\n\n[A-Z][A-Za-z ]+\n-+\n|\Z)"
NAMES = r"^([\w*][\w*, ]*?)(?: : .*)?$"  # before the colon of a line that is not indented
PATHS = {"to", "path"}
NEVER_EMPTY = {"start", "end", "since", "until", "on", "at", "currency", "skip", "timezone", "session_close",
               "to"}  # fmt: skip

TERMS = """Sharpe ratio; CAPM; Jensen's alpha; information ratio; tracking error; Sortino; Treynor; maximum drawdown;
heteroskedasticity; autocorrelation; serial correlation; Durbin–Watson; Ljung–Box; ARCH-LM; KPSS; Breusch–Godfrey;
Breusch–Pagan; White; Jarque–Bera; Chow test; CUSUM; Quandt–Andrews; multicollinearity; VIF; fixed effects; panel data;
dependent variable; ordinary least squares; WLS; instrumental variables; errors-in-variables; equity risk premium; factor loading;
factor exposure; systematic risk; idiosyncratic risk; Gordon growth; dividend discount; implied cost of capital; WACC;
unlevered beta; asset beta; relevered beta; Hamada; hedge ratio; look-ahead bias; survivorship bias; point-in-time; real-time;
publication lag; excess return; abnormal return; event study; value-weighted; equal-weighted; winsorise; outlier; as-of join;
forward fill; OHLC; resampling; confidence band; prediction interval; z-score; term spread; real return; year-on-year;
Kalman filter; Kalman smoother; Fama–French; Carhart; APT; SMB; HML; expected shortfall; value at risk;
identification-robust; weak factor; multiple testing; data snooping; p-hacking; out-of-sample"""


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
            word for row in re.findall(r"^\| (`.*?) \|", page, re.M) for word in re.findall(r"`(\w+)`", row)
        }
        defaults, used, wrong = defaultdict(set), set(), []
        for function, parameter in parameters():
            used.add(parameter.name)
            if parameter.name in RETIRED or (parameter.name in NEVER_EMPTY and parameter.default == ""):
                wrong.append(f"{function}({parameter})")
            if parameter.name in DEFAULTS and parameter.default is not parameter.empty:
                defaults[parameter.name].add(parameter.default)
            if parameter.name in PATHS and not re.search("PathLike|str", str(parameter.annotation)):
                wrong.append(f"{function}({parameter})")
        self.assertEqual(wrong, [])
        self.assertEqual({k: v for k, v in defaults.items() if v != DEFAULTS[k]}, {})
        self.assertEqual(defined - used, set(), "the glossary defines keywords that no function has")
        counts = Counter(parameter.name for _, parameter in parameters())
        shared = {name for name, count in counts.items() if count > 4}
        words = "self ax x title source name panel table series facts prices dividends splits address filters"
        plain = {*words.split(), "betas", "fit", "result", "value", "unit"}
        self.assertEqual(shared - defined - plain, set(), "keywords of five functions or more need a line")

    def test_each_term_of_the_literature_leads_to_its_place(self):
        page = (ROOT / "docs" / "glossary.md").read_text(encoding="utf-8").split("\n## ")[1].lower()
        missing = [term for term in re.split(r";\s+", TERMS.lower()) if term not in page]
        self.assertEqual(missing, [])

    def test_a_docstring_names_the_parameters_there_are(self):
        wrong, read = [], 0
        for path in sorted((ROOT / "ultrum").rglob("*.py")):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                function = isinstance(node, ast.FunctionDef)
                section = function and re.search(SECTION, ast.get_docstring(node) or "", re.S)
                if not section:
                    continue
                has = {a.arg for a in ast.walk(node.args) if isinstance(a, ast.arg)}
                named = set(re.findall(r"\w+", " ".join(re.findall(NAMES, section[1], re.M))))
                read += 1
                if named != has - {"self", "cls"}:
                    wrong.append(f"{path.name}:{node.lineno} {node.name} {named ^ has}")
        self.assertEqual(wrong, [])
        self.assertGreater(read, 150)
