"""Calls whose numbers and words are recorded, so that no change between two versions goes unnoticed.

``python -m tests.recorded`` writes tests/data/recorded.json again. List numbers that changed in CHANGELOG.md under
*Numbers that changed*. The record shows what changed; the other tests check what is right.
"""

import importlib
import inspect
import itertools
import json
import math
import pkgutil
import re
import shlex
import tempfile
import warnings
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul
import ultrum.core
import ultrum.sources
import ultrum.study
import ultrum.vault
from tests import fuzzing
from tests.corpus import BROKEN, GOOD
from tests.generated_tables import make_case
from tests.properties.calls import MONTHS, Things, calls, raw_frames
from tests.properties.flat import flat
from tests.support import PASSING, command, without_causes
from ultrum.core.regression.unit_roots_and_design_warnings import dickey_fuller
from ultrum.core.returns.yields import accrual_rate
from ultrum.core.time.frequency import Frequency
from ultrum.practice import world_files
from ultrum.practice.observatory import FLOWS
from ultrum.sources.sdmx import structures
from ultrum.sources.sdmx.client import decode
from ultrum.sources.sdmx.queries import FORMATS
from ultrum.study.change_summary import changes
from ultrum.study.provenance import run_facts
from ultrum.study.sections import TestsSection as Tests

# fmt: off
FILE = Path(__file__).parent / "data" / "recorded.json"
OTHERS = {
    "quarters": (pd.period_range("2000Q1", periods=96, freq="Q"), "Q"),
    "weeks": (pd.period_range("2005-01-03", periods=96, freq="W-FRI"), "W"),
    "weekdays": (pd.bdate_range("2005-03-01", periods=96), "B"),
}
ERRORS = ("classical", "hc0", "hc1", "hc2", "hc3", "hac", "hac-fixed-b", "ewc")
OPTIONS = {  # further keywords by function
    "adjust_p_values": [{"how": h} for h in ("bh", "by")],
    "factor_betas": [{"errors": e} for e in ERRORS] + [{"lags": "automatic"}],
    "joint_alpha_test": [{"how": "bootstrap", "draws": 99}, {"how": "robust"}],
    "two_pass": [{"beta_sample": "rolling", "window": 48}, {"weighting": "gls"}, {"constant": False, "lags": 2},
                 {"errors": "misspecification"}, {"draws": 99}],
    "beta_sensitivity": [{"adjustments": ["blume"]}],
    "dimson_beta": [{"factor_lags": 2, "factor_leads": 0}, {"how": "fowler-rorke"}],
    "conditional_beta": [{"time_varying_alpha": True}],
    "panel_regress": [{"clusters": c} for c in ("asset", "period")] + [{"effects": "period"}],
    "premium": [{"mean": "geometric"}, {"mean": "blume", "horizon": 5.0}, {"lags": 2}],
    "break_test": [{"how": "sup-f", "draws": 99}, {"how": "cusum"}, {"at": "2010-01"}],
    "diagnose": [{"lags": 3, "draws": 99}],
    "rolling_regress": [{"window": 24, "errors": e} for e in ("classical", "hc1", "hac")]
                       + [{"half_life": 12.0}, {"window": "P3Y", "step": 6, "min_obs": 20}, {"constant": False}],
    "shrink_betas": [{"how": "blume", "line": (0.3, 0.7)}, {"among": ["a", "b", "c", "d", "e"]}],
    "correlations": [{"window": 24}, {"deletion": "listwise"}],
    "momentum": [{"skip": "P1M"}, {"horizons": ["P1Y"]}],
    "portfolio": [{"rebalance": "never"}, {"weights": {"a": 2.0, "b": 1.0}}, {"rebalance": "P1Y"}],
    "growth": [{"over": "P1M", "annualised": True}, {"kind": "log"}],
    "returns": [{"frequency": "Q"}, {"kind": "log"}],
    "rolling": [{"how": h, "min_obs": 6} for h in ("std", "low", "high", "median", "exponential")],
    "standardise": [{"window": 36}, {"window": "expanding", "min_obs": 24}],
    "to_frequency": [{"how": "last"}, {"require": 0.5}],
    "innovations": [{"criterion": "aic"}, {"sample": "expanding", "min_obs": 40}, {"most_lags": 2}],
    "instrumented_premia": [{"beta_sample": "rolling", "window": 48}],
    "compare_to_benchmark": [{"on": "2011-06"}],
    "drawdowns": [{"limit": 2}],
    "distribution": [{"bins": 9}, {"bins": 0.01}],
    "forward_returns": [{"horizons": [2, 24]}],
    "predictive_regression": [{"horizons": [1, 6]}],
    "spells": [{"min_length": 2}],
    "composite": [{"window": 36}, {"at_least": 1}],
    "splice": [{"prefer": "first"}],
    "fill": [{"how": "backward", "limit": 1}],
    "rebase": [{"base": "2006-05", "value": 1.0}, {"base": "2006"}],
    "difference": [{"over": "P1Y"}],
    "lag": [{"over": "P1Y"}],
    "model_table": [{"below": "t", "stars": True, "digits": 2}, {"below": "p"}],
    "cost_of_equity": [{"risk_free_error": 0.005}],
    "peer_beta": [{"how": h, "debt_beta": 0.1} for h in ("mean", "precision")] + [{"how": "value", "values": {"a": 1.0, "b": 3.0}}],
}

EDGES = {  # the first and last value that an option takes, and what lies beyond
    "adjust_p_values": {"p_values": [pd.Series(p) for p in ([0.0, 1.0], [0.5, 1.01], [-0.01, 0.5], [np.nan, 0.2])]},
    "bands": {"window": (1, 2, 96, 97), "width": (0.0, -1.0)},
    "beta_sensitivity": {"windows": (["P11M"], ["P12M"], ["P13M"], ["P94M"], ["P96M"], ["P97M"])},
    "break_test": {"how": ("sup-f",), "trim": (0.0, 0.01, 0.02, 0.49, 0.5), "at": ("2005-03", "2005-04", "2012-09", "2012-11")},
    "composite": {"at_least": (0, 1, 2, 3), "window": (1, 2, 96, 97)},
    "compare_to_benchmark": {"horizons": (["P0M"], ["P1M"], ["P95M"], ["P96M"]), "on": ("2005-02", "2005-03", "2012-12", "2013-01")},
    "correlations": {"window": (2, 3, 96, 97)},
    "cost_of_equity": {"risk_free": (0.5, 0.51, -0.5, -0.51), "premia": ({"market": 0.5}, {"market": 0.51}, {"market": -0.51}),
                       "add_ons": ({"x": (0.5, "why")}, {"x": (0.51, "why")}, {"x": (-0.51, "why")}), "draws": (0, 1, 2)},
    "difference": {"over": ("P95M", "P96M")},
    "dimson_beta": {"factor_lags": (0, 2, 3), "factor_leads": (0, 2, 3)},
    "distribution": {"bins": (0, 1, 10_000, 10_001, 0.0, 1e-6, 1.0)},
    "drawdowns": {"limit": (0, 1, 50)},
    "fill": {"limit": (0, 1)},
    "forward_returns": {"horizons": ([0], [1], [94], [95], ["P7Y"], ["P8Y"])},
    "growth": {"over": ("P95M", "P96M")},
    "innovations": {"most_lags": (0, 1, 45, 46, 47), "min_obs": (1, 40, 95, 96, 97)},
    "joint_alpha_test": {"lags": (0, 93, 94), "draws": (0, 1)},
    "lag": {"over": ("P0M", "P1M")},
    "model_table": {"digits": (-1, 0, 12, 13)},
    "momentum": {"horizons": (["P0M"], ["P1M"], ["P95M"], ["P96M"]), "skip": ("P1M", "P84M")},
    "peer_beta": {"tax": (0.0, 0.99, 1.0, -0.01), "debt_to_equity": (0.0, -0.1), "target_tax": (0.99, 1.0)},
    "predictive_regression": {"horizons": ([0], [1], [64], [65], [66], [95])},
    "premium": {"horizon": (0.0, 1.0, 8.0, 9.0), "lags": (0, 95, 96)},
    "regress": {"lags": (0, 95, 96), "errors": ("HC3", "hac", "none")},
    "relever": {"debt_to_equity": (0.0, -0.01), "tax": (0.0, 0.99, 1.0, -0.01)},
    "risk_return": {"periods_per_year": (0.0, 0.1, -1.0, 366.0)},
    "rolling": {"window": (0, 1, 96, 97), "min_obs": (0, 1, 12, 13)},
    "rolling_regress": {"window": (2, 3, 96, 97), "step": (0, 1, 36, 37), "half_life": (0.0, 0.5), "min_obs": (1, 2, 3, 60, 61)},
    "shrink_betas": {"among": (list("abcd"), list("abcde"))},
    "spells": {"min_length": (0, 1, 3, 4)},
    "standardise": {"window": (1, 2, 96, 97), "min_obs": (0, 1, 97)},
    "step_down_alphas": {"draws": (0, 1), "min_obs": (0, 1)},
    "time_varying_betas": {"window": (2, 3, 12, 82, 83, 84)},
    "to_frequency": {"require": (0.0, 0.01, 1.01), "stale_after": (0, 1)},
    "two_pass": {"lags": (0, 92, 93, 94), "window": (2, 3, 48, 90, 93)},
    "wild_cluster_test": {"draws": (0, 1)},
}
ENABLED = {  # by function and option, what gives the option an effect
    ("premium", "horizon"): {"mean": "blume"}, ("break_test", "trim"): {"how": "sup-f", "draws": 19},
    ("two_pass", "window"): {"beta_sample": "rolling"}, ("innovations", "min_obs"): {"sample": "expanding"},
    ("joint_alpha_test", "lags"): {"how": "bootstrap", "draws": 19},
}


def ragged():
    """Data of the calls with a late start, an early end, two holes, and a missing factor value."""
    frames = raw_frames()
    assets = frames["assets"].copy()
    assets.iloc[:10, 1] = assets.iloc[80:, 2] = assets.iloc[40:43, 3] = assets.iloc[60, 0] = np.nan
    market = frames["market"].copy()
    market.iloc[55, 0] = np.nan
    daily = frames["daily"].copy()
    daily.iloc[100:130, 0] = daily.iloc[:40, 1] = daily.iloc[550:, 2] = np.nan
    return {**frames, "assets": assets, "market": market, "daily": daily}


def unmoving():
    """Data of the calls with an asset that never moves, one that is the market, one without returns, and still prices."""
    frames = raw_frames()
    assets, daily = frames["assets"].copy(), frames["daily"].copy()
    assets["b"], assets["d"] = 0.004, 0.0
    assets["c"] = 2.0 * frames["market"]["market"] + frames["bill"]["bill"]
    assets.iloc[70, 4] = -1.0
    daily["b"] = 50.0
    daily.iloc[50:70, 2] = daily.iloc[50, 2]
    return {**frames, "assets": assets, "daily": daily}


def sparse():
    """Data of the calls with an asset of one return, one of two, one of twelve, and daily prices of which few are left."""
    frames = raw_frames()
    assets, daily = frames["assets"].copy(), frames["daily"].copy()
    for name, rows in (("b", 1), ("c", 2), ("d", 12)):
        assets.loc[assets.index[rows + 20 :], name] = assets.loc[assets.index[:20], name] = np.nan
    daily.iloc[:598, 1] = daily.iloc[:, 2] = np.nan
    return {**frames, "assets": assets, "daily": daily}


def at_frequency(index):
    """The monthly data of the calls under other dates."""
    per_month = 21 if isinstance(index, pd.DatetimeIndex) else 4 if index.freqstr.startswith("W") else 1
    frames = raw_frames() | {"bill": raw_frames()["bill"] / per_month}
    return {n: f.set_axis(index) if len(f) == len(index) else f for n, f in frames.items()}


def numbers(result):
    """For each part of a result: how many numbers, how many missing and infinite, their sizes, a sum by place."""
    whole = {"": result, "frame": result.to_frame()} if hasattr(result, "to_frame") else {"": result}
    parts = {}
    for key, one in whole.items():
        for name, value in flat(one).items():
            parts.setdefault("/".join(filter(None, [key, *name.split("/")[1:2]])), []).append(value)
    return {part: _summary(np.array(values)) for part, values in parts.items()}


def _summary(values):
    known = np.where(np.isfinite(values), values, 0.0)
    places = np.cos(np.arange(len(values)) * math.sqrt(2.0))
    counts = [len(values), *(int(np.sum(odd)) for odd in (np.isnan(values), np.isposinf(values), np.isneginf(values)))]
    return [*counts, *(float(f"{total:.9g}") for total in (np.abs(known).sum(), known @ places))]


def _tried(call):
    """Numbers and words of a call, or its error, with the warnings. What libraries word is left out."""
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        try:
            result = call()
            ours = type(result).__module__.startswith(("ultrum", "tests", "__main__"))
            found = {"numbers": numbers(result)} | ({"words": repr(result).splitlines()} if ours else {"text": _text(result)})
            if isinstance(result, ul.TimeSeries | ul.SeriesTable):
                described = result.metadata if isinstance(result.metadata, tuple) else (result.metadata,)
                found["trail"] = [f"{a.name}: {a.measure} {a.unit} {a.currency} {a.timing} {a.trail[-1:]}" for a in described]
        except ul.UltrumError as error:
            found = {"error": PASSING.sub("…", without_causes(error))}
    heard = sorted({str(w.message) if issubclass(w.category, ul.DataWarning) else w.category.__name__ for w in caught})
    return found | ({"warnings": heard} if heard else {})


def _text(result):
    """What pandas and Python print may change with them; labels and texts of a table do not."""
    if not isinstance(result, pd.Series | pd.DataFrame):
        return [str(x) for x in result] if isinstance(result, list) else result if isinstance(result, str) else ""
    frame = result.to_frame() if isinstance(result, pd.Series) else result
    texts = [[str(v) for v in row if not isinstance(v, float | int | np.number)] for row in frame.itertuples()]
    return [", ".join(map(str, frame.columns)), *map(", ".join, texts[:20])]


def of_functions():
    """Every public function with its usual arguments and each of the options."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        layouts = {"": Things(), "ragged ": Things(ragged()), "unmoving ": Things(unmoving()), "sparse ": Things(sparse())}
        layouts |= {f"{name} ": Things(at_frequency(index), letter) for name, (index, letter) in OTHERS.items()}
    found = {}
    for layout, things in layouts.items():
        for name, (args, named) in calls(things).items():
            for options in [{}, *(OPTIONS.get(name, []) if layout in ("", "ragged ") else [])]:
                key = layout + name + "".join(f" {k}={v}" for k, v in options.items())
                tried = _tried(lambda n=name, a=args, k=named | options: getattr(ul, n)(*a, **k))
                if not layout or tried != found[name]:
                    found[key] = tried
    return found


def of_least_rows():
    """The fewest rows that each public function takes, what it makes of them, and what it says of one fewer."""
    found, waiting = {}, {}
    for rows in range(3, 97):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                every = calls(Things({n: f.iloc[:rows] for n, f in raw_frames().items()}))
            except ul.UltrumError:
                continue
        for name, (args, named) in every.items():
            if name not in found:
                tried = _tried(lambda n=name, a=args, k=named: getattr(ul, n)(*a, **k))
                if "error" in tried:
                    waiting[name] = tried["error"]
                else:
                    found[name] = {**tried, "text": f"{rows} rows", "error": waiting.get(name, "")}
    never = {n: {"error": error} for n, error in waiting.items() if n not in found}
    return {f"least {name}": one for name, one in (found | never).items()}


def of_edges():
    """Numbers or the error at and beyond the bounds of options."""
    things = Things()
    found = {}
    for name, (args, named) in calls(things).items():
        names = list(inspect.signature(getattr(ul, name)).parameters)
        for option, values in EDGES.get(name, {}).items():
            for value in values:
                place = names.index(option)
                given = [*args[:place], value, *args[place + 1 :]] if place < len(args) else args
                more = named | ENABLED.get((name, option), {}) | ({} if place < len(args) else {option: value})
                tried = _tried(lambda n=name, a=given, k=more: getattr(ul, n)(*a, **k))
                shown = list(value) if isinstance(value, pd.Series) else value
                found[f"edge {name} {option}={shown}"] = {k: v for k, v in tried.items() if k not in ("words", "text")}
    cost = ul.cost_of_equity(things.betas, premia={"market": 0.05}, risk_free=0.02)
    tries = {f"inflation {i}": lambda i=i: cost.in_currency("VTC", inflation=i) for i in ((0.5, 0.0), (0.0, 0.51), (-0.51, 0.0))}
    tries |= {f"forward {f}": lambda f=f: cost.in_currency("VTC", forward=f) for f in ((0.0, 1.0), (1.0, 0.0), (1.0, -1.0))}
    tries |= {f"interval {n}": lambda n=n: things.fit.interval(n) for n in (0.0, 0.01, 0.99, 1.0)}
    tries |= {f"detectable {n}": lambda n=n: things.fit.detectable(power=n) for n in (0.0, 0.01, 0.99, 1.0)}
    y, x = (pd.Series(np.random.default_rng(n).normal(size=60), MONTHS[:60], name="yx"[n]) for n in (0, 1))
    walk, fit = np.cumsum(x.to_numpy()), ul.regress(y, x)
    tries |= {f"cusum of {n}": lambda n=n: ul.break_test(ul.regress(y[:n], x[:n]), how="cusum") for n in (6, 7)}
    tries |= {f"benchmark of {n}": lambda n=n: ul.compare_to_benchmark(
        things.whole.sample(None, str(MONTHS[n - 1])), things.bill, horizons=["P1M"]) for n in (2, 3)}
    tries |= {f"unit root of {n}": lambda n=n: dickey_fuller(walk[:n]) for n in (24, 25)}
    tries |= {f"diagnosis of {n}": lambda n=n: ul.diagnose(ul.regress(y[:n], x[:n])) for n in (14, 15)}
    tries |= {f"clusters {n}": lambda n=n: ul.regress(y, x, clusters=pd.Series(np.arange(60) % n, y.index)) for n in (1, 39, 40)}
    tries |= {f"wild clusters {n}": lambda n=n: ul.wild_cluster_test(fit, pd.Series(np.arange(60) % n, y.index), "x", draws=19)
              for n in (4, 5)}
    return found | {f"edge {name}": _tried(call) for name, call in tries.items()}


def of_practice():
    """What the practice world gives: dividends, splits, a final payment, four factors, daily data."""
    panel, bars = ul.practice.panel(), world_files.bars()
    close = bars.pivot(index="date", columns="asset", values="close").loc["2013":"2018"]
    close = close[["BRTW", "LTSM", "ORSL", "NTSH", "MRWG", "FTHL"]]
    prices = ul.SeriesTable.from_pandas(close, measure="price", currency="QML")
    events = {n: world_files.table(n) for n in ("dividends", "splits", "final_payments")}
    events["dividends"] = events["dividends"].query("currency == 'QML'")
    four = list(panel.factors.columns)
    tries = {
        "returns": lambda: ul.returns(prices, frequency="M", **events),
        "daily returns": lambda: ul.returns(prices, check=False, **events),
        "adjusted": lambda: ul.adjust_prices(prices, events["dividends"], events["splits"]),
        "yields": lambda: ul.dividend_yield(prices, events["dividends"], events["splits"]),
        "price errors": lambda: ul.flag_price_errors(prices),
        "panel": lambda: panel,
        "betas": lambda: ul.factor_betas(panel, four),
        "two pass": lambda: ul.two_pass(panel, four),
        "rolling two pass": lambda: ul.two_pass(panel, four, beta_sample="rolling"),
        "risk": lambda: ul.risk_return(panel.assets, risk_free=None),
        "daily risk": lambda: ul.risk_return(ul.returns(prices, **events)),
        "growth of one": lambda: ul.drawdowns(ul.returns(prices, frequency="M", **events)),
        "workings": lambda: ul.factor_betas(panel, four).fit("BRTW").workings(),
        "influence": lambda: ul.factor_betas(panel, four).fit("BRTW").influence(),
    }
    return {f"practice {name}": _tried(call) for name, call in tries.items()}


def of_time():
    """Conversions between all frequencies, both ways, of every measure, with partial ends and holes."""
    rng = np.random.default_rng(5)
    found, days = {}, pd.date_range("2019-03-05", "2021-11-17")
    level = 100.0 * np.exp(0.01 * rng.standard_normal(len(days)).cumsum())
    level[200:215] = np.nan
    daily = {"every day": pd.Series(level, days, name="every day"),
             "weekdays": pd.Series(level, days, name="weekdays")[days.day_of_week < 5].dropna()}
    for (name, values), measure in itertools.product(daily.items(), ("price", "index", "flow", "rate", "return")):
        x = ul.TimeSeries.from_pandas(_sized(values, measure), measure=measure,
                                      timing="end" if measure in ("index", "rate") else None)
        for to, require in itertools.product("WMQSA", (1.0, 0.6)):
            key = f"{name} {measure} to {to} {require}"
            found[key] = _tried(lambda x=x, f=to, r=require: ul.to_frequency(x, f, require=r))
    table = pd.DataFrame({n: level * (1 + 0.1 * k) for k, n in enumerate("abc")}, days)
    table.iloc[40:75, 0] = table.iloc[70:100, 1] = table.iloc[300:303, :2] = np.nan
    for measure, to, require in itertools.product(("price", "flow", "rate", "return", "score"), "WMQ", (1.0, 0.6)):
        x = ul.SeriesTable.from_pandas(_sized(table, measure), measure=measure, timing="average" if measure == "rate" else None)
        found[f"table {measure} to {to} {require}"] = _tried(lambda x=x, f=to, r=require: ul.to_frequency(x, f, require=r))
    block = np.ascontiguousarray(np.repeat(table.to_numpy(), 40, axis=1) * np.linspace(1.0, 2.0, 120))
    wide = pd.DataFrame(block, days, [f"w{k}" for k in range(120)])
    for measure, to in itertools.product(("flow", "score"), "MQ"):
        x = ul.SeriesTable.from_pandas(wide, measure=measure)
        x = ul.SeriesTable.from_arrays(np.ascontiguousarray(x.block), x.index, x.metadata)  # whole rows at a time
        found[f"wide {measure} to {to}"] = _tried(lambda x=x, f=to: ul.to_frequency(x, f, require=0.6).to_pandas().sum(axis=1))
    quarterly = pd.Series(level[:12], pd.period_range("2019Q2", periods=12, freq="Q"), name="q")
    monthly = pd.Series(level[20:60], pd.period_range("2019-03", periods=40, freq="M"), name="m")
    methods = ("hold", "linear", "denton", "chow-lin")
    for measure, how in itertools.product(("flow", "index", "price"), methods):
        timing = {"timing": "average"} if measure == "index" else {}
        low = ul.TimeSeries.from_pandas(quarterly, measure=measure, **timing)
        beside = {"indicator": ul.TimeSeries.from_pandas(monthly, measure=measure, **timing)}
        for given in {"denton": ({}, beside), "chow-lin": (beside,)}.get(how, ({},)):
            key = f"{measure} by {how} {' '.join(given)}"
            found[key] = _tried(lambda x=low, h=how, g=given: ul.disaggregate(x, "M", how=h, **g))
    return found


def _sized(levels, measure):
    """Numbers of the size of a measure."""
    return levels / 1e4 if measure == "rate" else levels / 1e3 - 0.1 if measure == "return" else levels


def of_results():
    """Methods of results, and options of regress."""
    panel = ul.practice.panel()
    four, y = list(panel.factors.columns), panel.excess["MRWG"]
    fit, table = ul.regress(y, panel.factors), ul.factor_betas(panel, four)
    index = y.to_pandas().index
    years, weights = pd.Series(index.year, index), 1.0 + panel.factors["market"].abs()
    options = [{"errors": e} for e in ERRORS] + [
        {"clusters": years}, {"clusters": years, "errors": "cr3"}, {"lags": 7}, {"weights": weights}, {"constant": False},
        {"prewhiten": True, "errors": "ewc"}, {"lags": "automatic"}]
    premia = {f: ul.premium(panel.factor_table[f]) for f in four}
    licence = {"licence": (0.01, "ends in 2031")}
    cost = ul.cost_of_equity(table, premia=premia, risk_free=0.02, add_ons=licence)
    tries = {f"regress {list(o)} {o.get('errors', '')}": lambda o=o: ul.regress(y, panel.factors, **o) for o in options}
    tries |= {
        "fit words": lambda: fit.in_words().splitlines(),
        "fit interval": lambda: fit.interval(0.9),
        "fit influence": fit.influence,
        "fit workings": fit.workings,
        "fit test": lambda: fit.test("market", 1.0),
        "fit joint test": lambda: fit.test(["size", "value"]),
        "fit predict": lambda: fit.predict(panel.factors.iloc[:5]),
        "table interval": lambda: table.interval("market"),
        "table t": lambda: table.t_values,
        "table p": lambda: table.p_values,
        "table residuals": lambda: table.residuals,
        "cost": lambda: cost,
        "cost parts": lambda: cost.parts,
        "cost shares": lambda: cost.shares,
        "cost workings": lambda: cost.workings("BRTW"),
        "cost notes": lambda: list(cost.notes.items()),
        "cost abroad": lambda: cost.in_currency("VTC", inflation=(0.02, 0.03)),
        "cost abroad workings": lambda: cost.in_currency("VTC", inflation=(0.02, 0.03)).workings("BRTW"),
        "cost over days": lambda: ul.cost_of_equity(ul.downside_beta(panel), premia={"market": ul.Premium(0.05, 0.01, 99, "days")},
                                                    risk_free=ul.TimeSeries.from_pandas(pd.Series(
            np.linspace(1e-5, 9e-5, 60), pd.bdate_range("2024-01-01", periods=60)), name="days", measure="return")),
        "cost draws": lambda: ul.cost_of_equity(table, premia=premia, risk_free=0.02, draws=99).in_currency(
            "VTC", inflation=(0.02, 0.03)).interval(method="bootstrap"),
        "cost forward": lambda: cost.in_currency("VTC", forward=(1.25, 1.5)),
        "cost forward of nothing": lambda: cost.in_currency("VTC", forward=(0.0, 1.5)),
        "missing": lambda: panel.missing_log.groupby(["series", "cause"], observed=True).size(),
        "coverage": lambda: panel.coverage,
        "robust sets": lambda: ul.two_pass(panel, ["market", "size"]).robust_sets(),
    }
    return {f"results {name}": _tried(call) for name, call in tries.items()}


def of_combinations():
    """Calls of several inputs: splices, currencies, release dates, nearest dates, purchases, yields, calendars."""
    rng = np.random.default_rng(8)
    months, days = pd.period_range("2020-01", periods=36, freq="M"), pd.bdate_range("2020-01-01", "2022-12-30")
    walk = 100.0 * np.exp(0.02 * rng.standard_normal((len(days), 3)).cumsum(axis=0))
    make = ul.TimeSeries.from_pandas

    def monthly(values, name, **facts):
        return make(pd.Series(values, months[: len(values)], name=name), name=name, **facts)

    base = walk[:36, 0]
    parts = [make(pd.Series(base[a:b] * f + d, months[a:b]), name=n, measure="index", timing="average")
             for n, a, b, f, d in (("old", 0, 14, 1.0, 3.0), ("middle", 10, 26, 2.0, 0.0), ("new", 22, 36, 0.5, 9.0))]
    quotes = [make(pd.Series(walk[:, k] / 50.0, days).drop(days[60 * (k + 1) : 60 * (k + 1) + 45]), name=n, measure="quote",
                   unit=n, timing="end") for k, n in enumerate(("QML/QSR", "QSR/VTC"))]
    money = {m: monthly(base * size, m, measure=m, currency="QML")
             for m, size in (("flow", 1.0), ("price", 1.0), ("return", 1e-3))}
    macro = monthly(rng.standard_normal(36), "macro", measure="rate")
    periods = [str(p) for p in months[:30]]
    vintages = pd.DataFrame({"period": periods * 2, "value": rng.standard_normal(60),
                             "released": [*(months[:30].to_timestamp() + pd.Timedelta(days=47)), pd.NaT,
                                          *(months[1:30].to_timestamp() + pd.Timedelta(days=92))]})
    releases = pd.Series(months.to_timestamp() + pd.Timedelta(days=40), months)
    six = pd.DataFrame(rng.normal(0.01, 0.05, (36, 6)), months, list("abcdef"))
    assets = ul.SeriesTable.from_pandas(six, measure="return")
    whole = monthly(rng.normal(0.01, 0.04, 36), "market", measure="return", excess_of="bill")
    bill = monthly(np.full(36, 0.002), "bill", measure="return")
    two = pd.DataFrame(walk[:, :2], days, ["a", "b"])
    prices = ul.SeriesTable.from_pandas(two, measure="price", currency="QML")

    def events(assets, dates, **values):
        return pd.DataFrame({"asset": list(assets), "date": dates.split(), **values})

    paid = events("aab", "2020-05-15 2021-05-14 2021-03-03", amount=[2.0, 2.5, 1.0])
    cut = events("b", "2021-09-01", ratio=[2.0])
    bought = events("aba", "2020-02-03 2020-06-01 2021-07-01", units=[10.0, 5.0, -4.0])
    asked = events("abab", "2020-01-04 2020-07-05 2021-02-28 2023-01-05")[["date", "asset"]]
    long = two.iloc[::5].rename_axis("date").reset_index().melt("date", var_name="asset", value_name="price")
    rates = pd.Series(3.0 + walk[:, 2] / 100.0, days, name="y")
    yields = make(rates, percent=True, measure="rate", timing="end")
    tries = {f"splice {k} {w}": lambda k=k, w=w: ul.splice(*parts, link=k, prefer=w, tolerance=1e9)
             for k in ("level", "ratio", "difference") for w in ("first", "last")}
    tries |= {f"{m} in {c}": lambda x=x, c=c: ul.to_currency(x, c, quotes) for m, x in money.items() for c in ("QSR", "VTC")}
    tries |= {f"known by {n}": lambda k=k: ul.align(assets=assets, factors=[whole, macro], risk_free=bill, known_by=k)
              for n, k in (("lag", "P1M"), ("days", "P45D"), ("dates", releases), ("vintages", vintages))}
    tries |= {f"conditions {r}": lambda r=r: ul.align(assets=assets, factors=whole, risk_free=bill, conditions=macro,
                                                      known_by=vintages, rows=r) for r in ("any", "complete")}
    tries |= {f"dates {d} {a} {u}": lambda d=d, a=a, u=u: ul.match_dates(
                  asked["date"], pd.Series(walk[:, 0], days.as_unit(u)).iloc[::7], direction=d, max_age=a)
              for d in ("before", "after") for a in ("P1D", "P2W", None) for u in ("s", "ms", "us", "ns")}
    tries |= {
        "dates by key": lambda: ul.match_dates(asked, long, key="asset", max_age="P1M"),
        "positions": lambda: ul.positions(bought, prices, dividends=paid, splits=cut),
        "positions on": lambda: ul.positions(bought, prices, on="2022-03-10"),
        "adjusted": lambda: ul.adjust_prices(prices, paid, cut),
        "total returns": lambda: ul.returns(prices, frequency="M", dividends=paid, splits=cut),
        "bars": lambda: ul.to_bars(prices["a"], "W"),
        "grid": lambda: ul.calendar_returns(ul.returns(prices["a"], frequency="M")),
        "daily grid": lambda: ul.calendar_returns(ul.returns(prices["a"])),
        "momentum": lambda: ul.momentum(prices, ["P1M", "P6M"], skip="P1M"),
        "total loss": lambda: ul.risk_return(monthly(np.where(np.arange(36) == 9, -1.0, 0.01), "x", measure="return")),
        "within days": lambda: ul.to_frequency(make(pd.Series(walk[:200, 0], pd.date_range("2024-01-01 09:15", periods=200,
            freq="5min", tz="UTC"), name="p"), frequency="5N", measure="price", timing="end"), "H"),
        "benchmark": lambda: ul.compare_to_benchmark(*(ul.returns(prices[n], frequency="M") for n in "ab")),
    }
    holed = bill.sample("2020-03", "2022-10")
    holed = make(holed.to_pandas().drop(months[14]), name="bill", measure="return")
    tries |= {f"bill of months by {f}": lambda f=f, i=i: accrual_rate(holed, i, Frequency.parse(f)) for f, i in (
        ("B", days), ("W", pd.period_range("2020-01-03", periods=150, freq="W-FRI")), ("M", months))}
    daily_returns = ul.returns(prices, check=False)
    tries |= {f"sensitivity {f}": lambda f=f: ul.beta_sensitivity(daily_returns, daily_returns["b"], "a", risk_free=holed,
                  windows=["P1Y"], frequencies=[f], adjustments=["none", "blume"]) for f in "BWMQ"}
    tries |= {
        "positions abroad": lambda: ul.positions(bought, prices, currency="QSR", rates=ul.ExchangeRates(quotes)),
        "positions without rates": lambda: ul.positions(bought, prices, currency="QSR"),
        "positions in no currency": lambda: ul.positions(bought, prices.with_metadata(currency=""), currency="QSR"),
        "premium over prices": lambda: ul.premium(whole, mean="geometric", risk_free=monthly(base, "x", measure="price")),
        "infinite": lambda: make(pd.Series(np.inf, months), measure="index"),
        "infinite table": lambda: ul.SeriesTable.from_pandas(pd.DataFrame({"a": 1.0, "b": 2.0, "c": np.inf}, months)),
        "amounts": lambda: ul.ExchangeRates(quotes).amount([1.0, 2.0, 3.0], ["QML", "QSR", "QML"], "VTC",
                                                           on=["2020-02-05", "2030-01-01", "2031-01-01"]),
        "log level": lambda: ul.cumulate(ul.to_log(assets), initial=50.0),
        "level": lambda: ul.cumulate(assets, initial=50.0),
        "cumulated over a gap": lambda: ul.cumulate(make(six["a"].drop(months[9]), measure="return")),
        "grid from December": lambda: ul.calendar_returns(make(six["a"].iloc[11:], measure="return")),
        "price and total returns": lambda: ul.align(assets=assets.with_metadata(income="price"), risk_free=bill,
                                                    factors=whole.with_metadata(income="total")),
        "half-years": lambda: ul.to_frequency(make(pd.Series(base[:11], pd.PeriodIndex.from_ordinals(
            np.arange(480, 546, 6), freq="6M")), measure="flow"), "A"),
        "weighed by old values": lambda: ul.portfolio(daily_returns, weights=ul.SeriesTable.from_pandas(two.iloc[:40], measure="stock")),
        "weighed by no values": lambda: ul.portfolio(daily_returns, weights=prices.sample("2030")),
        "predicted from a short run": lambda: ul.predictive_regression(assets["a"], make(macro.to_pandas().where(
            np.arange(36) != 14), name="macro", measure="rate")),
        "rebased to nothing": lambda: ul.rebase(ul.SeriesTable.from_pandas(two.iloc[:9] * [1.0, 0.0], measure="index"), base="first"),
        "excess abroad": lambda: ul.excess(assets.with_metadata(currency="QSR"), bill.with_metadata(currency="QML")),
        "premium over a gap": lambda: ul.premium(whole, mean="geometric", risk_free=holed),
    }
    tries |= {f"yields {q}": lambda q=q: ul.yield_to_return(yields, quoted=q)
              for q in ("effective", "bond-equivalent", "discount", "simple", "continuous")}
    tries |= {f"yields over {f}": lambda f=f: ul.yield_to_return(yields, f, quoted="effective") for f in "WMQ"}
    tries |= {f"calendar {f}": lambda f=f: _calendar(Frequency.parse(f)) for f in "DBWMQSA"}
    return {f"combined {name}": _tried(call) for name, call in tries.items()}


def _calendar(frequency):
    ordinals = frequency.ordinals(np.array(["1969-12-29", "2000-02-29", "2020-12-31", "2021-01-01"], "datetime64[D]"))
    around = (ordinals[:, None] + np.arange(-2, 3)).ravel()
    return {
        "ordinals": ordinals, "labels": list(frequency.labels(around)),
        "starts": frequency.starts(around).astype(int), "ends": frequency.ends(around).astype(int),
    }


def of_tables():
    """Every awkward table whole: series, decisions, rejected rows; every broken one with its message."""
    broken = {f"broken {name}": table for name, table in BROKEN.items()}
    every = {**GOOD, **broken}.items()
    return {f"table {name}": _tried(lambda a=args: _Read(*a[:2])) for name, args in every}


def of_odd_input():
    """Tables of known truth in many layouts; damaged tables, messages and studies."""
    tables = {f"generated {seed}": make_case(seed).body for seed in range(5000, 5120)}
    whole = [b for b in fuzzing.tables() if b[:2] not in (b"PK", b"\x1f\x8b")]  # archives hold their time of packing
    tables |= {f"damaged {n}": fuzzing.mutated(whole, n) for n in range(200)}
    found = {name: _tried(lambda b=body: _Read(b)) for name, body in tables.items()}
    for kind, seeds in (("data", fuzzing.damaged_data()), ("structures", fuzzing.damaged_structures())):
        for n in range(60):
            body = fuzzing.mutated(seeds, n)
            found[f"{kind} {n}"] = _tried(lambda b=body, k=kind: _decode(b, k))
    whole, folder = [text.decode() for text in fuzzing.studies()][:-1], Path(ul.practice.__file__).parent / "studies"
    texts = {str(n): fuzzing.mutated(fuzzing.studies(), n).decode("utf-8", "replace") for n in range(60)}
    for word, other in (("observatory:", "obs:"), ("factors = [", 'factors = ["tide", '), ('"P1Y"', '"P1X"'), ("exchange:", "exchange"), ('["2004-01"', '["soon"'), ("[cost_of_equity]", "[costs]"), ("composite = {", "composite = { orient = { spread = -1 },"),
                        ('"exchange:indices.csv#QLX-ALL-TR", ', "")):
        texts |= {f"with {other} {n}": text.replace(word, other) for n, text in enumerate(whole)}
    for name, text in texts.items():
        found[f"study {name}"] = _tried(lambda t=text: ul.Study.parse(t, "s.toml", folder).to_toml())
    return found


def _decode(body, kind):
    if kind == "data":
        return decode(body, "", list(FLOWS["PRICES"].dimensions), "s:PRICES")
    return [structures.read_flows(body, "s:PRICES"), structures.read_structure(body, "s:PRICES")]


def of_studies():
    """Shipped studies and a variant of each kind: numbers by name, cautions, decisions, stages."""
    folder = Path(ul.practice.__file__).parent / "studies"
    small, quarters = (ul.Study.load(folder / f"{n}.toml") for n in ("market_model", "macro_quarters"))
    asset = small.model_copy(update={"cost_of_equity": None})
    with tempfile.TemporaryDirectory() as vault, ul.practice.serve() as service:
        tests = Tests(joint_alpha=["exact"], diagnose=True, breaks="sup-f", rolling_window="P3Y")
        tries = {"market model": small, "quarters": quarters, "betas alone": asset, "few": small.for_assets(["BRTW"]),
                 "tests": asset.model_copy(update={"tests": tests})}
        runs = {}
        found = {f"study {name}": _tried(lambda n=name, s=study: runs.setdefault(n, _Run(s.with_sources_at(service.places), vault)))
                 for name, study in tries.items()}
    facts = {name: run.facts for name, run in runs.items()} | {"no study": {**runs["quarters"].facts, "study": None}}
    pairs = (("market model", "tests"), ("tests", "market model"), ("market model", "quarters"), ("no study", "few"))
    return found | {f"changes {a} to {b}": _tried(lambda a=a, b=b: changes(facts[a], facts[b])) for a, b in pairs}


def _write_files(folder):
    """Price files in three forms, factors with prose around them, an index, dividends and a split."""
    draw, days = np.random.default_rng(1), pd.bdate_range("2015-01-01", "2024-12-31")
    market = draw.normal(0.0004, 0.01, len(days))
    close = 100 * np.exp(np.cumsum(1.2 * market[:, None] + draw.normal(0, 0.012, (len(days), 3)), axis=0))
    quotes = pd.DataFrame({"Open": close[:, 0] * 1.001, "Close": close[:, 0], "Adj Close": close[:, 0] * 0.97, "Volume": 1000}, days)
    wide = pd.DataFrame(close, days, list("ABC")).drop(days[700:730])
    long = wide.iloc[::5].rename_axis("date").reset_index().melt("date", var_name="asset", value_name="close")
    month = 100 * (np.exp(pd.Series(market, days).groupby(days.to_period("M")).sum()) - 1)
    table = pd.DataFrame({"Mkt-RF": month - 0.15, "SMB": draw.normal(0, 2, len(month)), "RF": 0.15}).rename_axis("month")
    for name, frame in {"KELP": quotes.iloc[::-1].rename_axis("Date"), "wide": wide.rename_axis("date"), "long": long.set_index("date"),
                        "index": pd.DataFrame({"Index": 100 * np.exp(market.cumsum())}, days).rename_axis("day")}.items():
        frame.round(2).to_csv(folder / f"{name}.csv")
    (folder / "factors.csv").write_text(f"Returns in percent a month.\n\n{table.round(2).to_csv()}")
    study = ('[study]\ntitle = "x"\n[sources.here]\nkind = "table"\nurl = "."\n[panel]\nassets = "here:long.csv"\n{}'
             'factors = "here:factors.csv"\n[[models]]\nname = "m"\nfactors = ["Mkt-RF"]\n')
    (folder / "price.toml").write_text(study.format('price_column = "Clse"\nrisk_free = "here:factors.csv#RF"\n'))
    (folder / "rate.toml").write_text(study.format(""))
    (folder / "dividends.csv").write_text("asset,date,amount\nKELP,2019-05-06,1.5\nKELP,2021-05-06,2\nA,2020-03-03,1\n")
    (folder / "splits.csv").write_text("asset,date,ratio\nKELP,2020-06-01,2\n")


def of_commands():
    """What commands print about ordinary files."""
    with tempfile.TemporaryDirectory() as place:
        _write_files(folder := Path(place))
        said = {}
        for line in FILE.with_name("commands.txt").read_text().splitlines():
            done = command(*shlex.split(line), cwd=folder, ULTRUM_VAULT=f"{place}/vault")
            text = re.sub(r"python -m [\w.]*ultrum", "ultrum", done.stdout + done.stderr).replace(place, "FOLDER")
            said[line] = [str(done.returncode), *text.splitlines()]
        said |= {name: (folder / name).read_text().splitlines() for name in ("kelp.toml", "wide.toml")}
    return {f"command {line}": {"text": text} for line, text in said.items()}


def of_services():
    """What the practice services send, in every format: series with their facts, tables, listings, wrong addresses."""
    found = {}
    with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        for form in FORMATS:
            sources = ul.practice.sources_at(service.places)
            sources["observatory"]["format"] = form
            with ul.Desk(Path(folder, form), sources=sources) as desk:
                for flow in FLOWS:
                    tried = _tried(lambda d=desk, f=flow: _Series(d.fetch_all(f"observatory:{f}", start="2019", end="2021-06")))
                    if form == FORMATS[0] or tried != found[flow]:
                        found[flow if form == FORMATS[0] else f"{form} {flow}"] = tried
        with ul.Desk(Path(folder, "tables"), sources=ul.practice.sources_at(service.places)) as desk:
            tables = ("college:factors_monthly.zip", "exchange:indices.csv", "council:rents/{region}.csv", "harbour:freight")
            tries = {a: lambda a=a: _Series(desk.fetch_all(a, last=40)) for a in tables}
            tries |= {f"search {w} {f}": lambda w=w, f=f: desk.search(w, limit=5, **f) for w, f in (
                ("yield", {}), ("prise", {}), ("", {"region": "QS"}), ("rate", {"frequency": "M"}), ("wages sorrin", {}))}
            url = f"{service.url}/exchange/indices.csv?part=a/b"
            tries["read"] = lambda: _Series(ul.read_series(url).series.values())
            tries |= {f"browse {b}": lambda b=b: desk.browse(*b) for b in ((), ("Economy",), ("Economy", "Activity"))}
            wrong = ("PRICES/M.XX.CPI", "PRICES/M.QM", "PRICES/M.QM+QS.CPI", "PRISES/M.QM.CPI", "PRICES/D.QM.CPI", "PRICES",
                     "QLO,PRICES,1.0/M.QM.CPI", "QLO,PRICES,9.9/M.QM.CPI", "XXX,PRICES/M.QM.CPI", "PRICES/M.QM.CPI/x", "OUTPUT/Q.QM.")
            tries |= {f"fetch {p}": lambda p=p: _Series([desk.fetch(f"observatory:{p}")]) for p in wrong}
            tries |= {f"fetch {a}": lambda a=a: _Series([desk.fetch(a)]) for a in (
                "exchange:prices.csv", "exchange:none.csv", "exchange:prices.csv#XXXX.close", "college:factors_monthly.zip#x", "x:y")}
            found |= {name: _tried(call) for name, call in tries.items()}
    return {f"service {name}": one for name, one in found.items()}


def of_defaults():
    """Defaults of public functions, of the methods of every class, and of the fields of every data class."""
    modules = [importlib.import_module(m.name) for p in (ultrum.core, ultrum.sources, ultrum.vault, ultrum.study)
               for m in pkgutil.walk_packages(p.__path__, f"{p.__name__}.")]
    owned = [(n, x) for m in modules for n, x in vars(m).items() if getattr(x, "__module__", "") == m.__name__]
    tops = {n: x for n, x in owned if isinstance(x, type) and n[0] != "_"} | {n: getattr(ul, n) for n in ul.__all__}
    functions = {n: x for n, x in tops.items() if not isinstance(x, type) or hasattr(x, "__dataclass_fields__")
                 or hasattr(x, "model_fields")}
    functions |= {f"{n}.{m}": getattr(f, "__func__", f) for n, x in tops.items() if isinstance(x, type)
                  for m, f in vars(x).items() if m[0] != "_"}
    given = {n: inspect.signature(f).parameters.values() for n, f in sorted(functions.items()) if callable(f)}
    texts = {n: [f"{p.kind.name} {p.name} = {p.default}" for p in ps if p.default is not p.empty] for n, ps in given.items()}
    return {f"defaults of {n}": {"text": text} for n, text in texts.items() if text}


class _Run:
    """A run as it is recorded."""

    def __init__(self, study, vault):
        self.facts = run_facts(result := ul.run_study(study, vault=vault))
        self.words = [
            *(f"{w.subject}: {w.text}" for w in result.warnings), *map(str, result.decisions),
            *(f"{s['name']}: {s['needs']}, {len(s['takes'])}" for s in self.facts["stages"]), *repr(result).splitlines(),
        ]

    def to_frame(self):
        return self.facts["numbers"]

    def __repr__(self):
        return "\n".join(line.partition(" (run ")[0] for line in self.words)


class _Series:
    """Series as they are recorded."""

    def __init__(self, series):
        self.series = series

    def to_frame(self):
        return {s.metadata.address or s.name: s.to_pandas() for s in self.series}

    def __repr__(self):
        return "\n".join(f"{s.metadata!r} {s.index[0]} {s.index[-1]}" for s in self.series)


class _Read:
    """A reading as it is recorded."""

    def __init__(self, source, options=None):
        reading = ul.read_series(source.encode() if isinstance(source, str) else source, **(options or {}))
        self.numbers = {n: s.to_pandas() for n, s in reading.series.items()} | {"records": reading.records}
        self.words = [
            *(f"{n}: {s.metadata!r} {s.index[0]} {s.index[-1]}" for n, s in reading.series.items()),
            *map(str, reading.decisions), *map(str, reading.rejected), f"records: {list(reading.records)}",
        ]

    def to_frame(self):
        return self.numbers

    def __repr__(self):
        return "\n".join(self.words)


GROUPS = {"functions": of_functions, "practice": of_practice, "results": of_results, "conversions": of_time,
          "combinations": of_combinations, "studies": of_studies, "odd input": of_odd_input, "tables": of_tables,
          "services": of_services, "commands": of_commands, "defaults": of_defaults, "least rows": of_least_rows, "edges": of_edges}


def differences(now, then):
    """Where two records differ, a line each."""
    lines = [f"{name}: {'new' if name in now else 'gone'}" for name in sorted(set(now) ^ set(then))]
    for name in sorted(set(now) & set(then)):
        one, two = now[name], then[name]
        lines += [f"{name}: {part} {one.get(part)!r} for {two.get(part)!r}"
                  for part in ("words", "text", "error", "warnings", "trail") if one.get(part) != two.get(part)]
        a, b = one.get("numbers", {}), two.get("numbers", {})
        lines += [f"{name}: {part} {a.get(part)} for {b.get(part)}" for part in sorted(set(a) | set(b))
                  if not _alike(a.get(part), b.get(part))]
    return lines


def _alike(one, two):
    return one is not None and two is not None and np.allclose(one, two, rtol=1e-6, atol=1e-9)


if __name__ == "__main__":
    whole = {name: group() for name, group in GROUPS.items()}
    FILE.write_text(json.dumps(whole, indent=0, ensure_ascii=False) + "\n", encoding="utf-8")
    print(FILE)
