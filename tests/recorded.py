"""Numbers of a panel with three factors and known betas, by subject, and what commands print about ordinary files.

They show what a change moves; the other tests know what is right. ``python -m tests.recorded regressions`` accepts the
numbers of one subject and prints each that moved; list those in CHANGELOG.md under *Numbers that changed*.
"""

import inspect
import json
import math
import re
import shlex
import sys
import tempfile
import warnings
from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul
from tests.properties.calls import MONTHS, Things, calls, random_frame, raw_frames
from tests.properties.flat import flat
from tests.support import command
from ultrum.errors import UltrumError

# fmt: off
FOLDER = Path(__file__).parent / "data" / "record"
BETAS = pd.DataFrame({"market": [0.6, 0.8, 1.0, 1.1, 1.3, 0.9], "size": [0.0, 0.4, -0.3, 0.8, 0.2, -0.5],
                      "value": [0.3, -0.2, 0.0, 0.5, -0.4, 0.1]}, list("abcdef"))
OF_SUBJECT = {"transform": "series", "series": "series", "currency": "series", "returns": "returns", "statistics": "returns",
              "regression": "regressions", "pricing": "pricing"}  # others are panels and tables
SUBJECTS = ("series", "returns", "regressions", "pricing", "panels", "limits")
COMMANDS = FOLDER / "commands.txt"
SHOWN = 8  # numbers of a result on record, from its beginning, middle and end
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
    "panel_regress": [{"clusters": c} for c in ("asset", "period")],
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


class Known(Things):
    """Assets whose betas on three factors are known; a panel of the three beside that of the market alone."""

    def __init__(self):
        frames = raw_frames()
        factors = frames["market"].join(random_frame(["size", "value"], MONTHS, 0.03) - 0.006)
        noise = np.random.default_rng(1).normal(0, 0.03, (len(MONTHS), 6))
        frames["assets"] = frames["bill"].to_numpy() + factors @ BETAS.T + noise
        super().__init__(frames)
        self.factors = ul.SeriesTable.from_pandas(factors, measure="return", excess_of="bill", currency="QML")
        self.three = ul.align(assets=self.assets, factors=self.factors, risk_free=self.bill)


def every_call(things):
    """Name, function, and arguments of every call; panels and regressions have the three factors where they may."""
    net = ul.excess(things.assets, things.bill)
    many = {name: [things.three] for name in ("factor_betas", "two_pass", "joint_alpha_test", "panel_regress", "step_down_alphas")}
    many |= {"regress": [net, things.factors], "rolling_regress": [net, things.factors]}
    for name, (args, named) in calls(things).items():
        for options in [{}, *OPTIONS.get(name, [])]:
            words = "".join(f" {key}={value}" for key, value in options.items())
            yield f"{name}{words}", name, many.get(name, args), named | options


def subject_of(name):
    """The subject of a function: the package it is in."""
    return OF_SUBJECT.get(inspect.unwrap(getattr(ul, name)).__module__.split(".")[2], "panels")


def numbers_of(subject):
    """Numbers on record of each call of a subject, or the refusal in words."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        things = Known()
        if subject == "limits":
            return _limits(things)
        return {key: _numbers(lambda n=name, a=args, k=named: getattr(ul, n)(*a, **k))
                for key, name, args, named in every_call(things) if subject_of(name) == subject}


def _numbers(call):
    """How many numbers a result has, their mean size, and some of them with their places."""
    try:
        every = flat(call())
    except UltrumError as error:
        return {"refused": str(error)}
    whole = {place.strip("/"): number for place, number in every.items() if math.isfinite(number)}
    places = list(whole)
    chosen = dict.fromkeys(places[round(k)] for k in np.linspace(0, len(places) - 1, SHOWN)) if places else ()
    size = {"mean size": np.mean(np.abs(list(whole.values())))} if places else {}
    return {"numbers": len(every), **{k: float(f"{v:.7g}") for k, v in (size | {p: whole[p] for p in chosen}).items()}}


def _limits(things):
    """Which values of an option are taken and which refused, at and beyond its bounds."""
    found = {}
    for name, (args, named) in calls(things).items():
        names = list(inspect.signature(getattr(ul, name)).parameters)
        for option, values in EDGES.get(name, {}).items():
            place = names.index(option)
            outcomes = {}
            for value in values:
                given = [*args[:place], value, *args[place + 1 :]] if place < len(args) else args
                more = named | ENABLED.get((name, option), {}) | ({} if place < len(args) else {option: value})
                outcome = _numbers(lambda n=name, a=given, k=more: getattr(ul, n)(*a, **k))
                shown = list(value) if isinstance(value, pd.Series) else value
                outcomes[str(shown)] = "refused" if "refused" in outcome else "taken"
            found[f"{name} {option}"] = outcomes
    return found


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


def printed():
    """What the commands on record print about these files."""
    parts = []
    with tempfile.TemporaryDirectory() as place:
        _write_files(folder := Path(place))
        for line in re.findall(r"^\$ ultrum (.*)$", COMMANDS.read_text(), re.M):
            done = command(*shlex.split(line), cwd=folder, ULTRUM_VAULT=f"{place}/vault")
            text = re.sub(r"python -m [\w.]*ultrum", "ultrum", done.stdout + done.stderr).replace(place, "FOLDER")
            lines = "\n".join(row.rstrip() for row in text.splitlines())
            parts.append(f"$ ultrum {line}\n{lines}\nexit {done.returncode}\n")
    return "\n".join(parts)


def differences(now, then):
    """A line for each number that moved, came or went, with both values."""
    lines = []
    for call in sorted({*now, *then}):
        one, two = now.get(call, {}), then.get(call, {})
        for place in dict.fromkeys([*two, *one]):
            new, old = one.get(place), two.get(place)
            if not _alike(new, old):
                moved = f" ({new / old - 1:+.2%})" if isinstance(new, float) and isinstance(old, float) and old else ""
                lines.append(f"{call}, {place}: {old} -> {new}{moved}")
    return lines


def _alike(one, two):
    if isinstance(one, int | float) and isinstance(two, int | float):
        return math.isclose(one, two, rel_tol=2e-6, abs_tol=1e-9)
    return one == two


def on_record(subject):
    """The numbers that were accepted."""
    path = FOLDER / f"{subject}.json"
    return json.loads(path.read_text(encoding="utf-8")) if path.exists() else {}


if __name__ == "__main__":
    for chosen in sys.argv[1:] or (*SUBJECTS, "commands"):
        FOLDER.mkdir(exist_ok=True)
        if chosen == "commands":
            COMMANDS.write_text(printed(), encoding="utf-8")
            continue
        accepted = numbers_of(chosen)
        print(*differences(accepted, on_record(chosen)), sep="\n")
        text = ",\n".join(f"{json.dumps(k)}: {json.dumps(v)}" for k, v in accepted.items())
        (FOLDER / f"{chosen}.json").write_text(f"{{\n{text}\n}}\n", encoding="utf-8")
