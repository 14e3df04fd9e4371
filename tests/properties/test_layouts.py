"""The same data in another layout give the same numbers, in every public function."""

import unittest
import warnings
from unittest import mock

import numpy as np
import pandas as pd

import ultrum as ul
from tests.properties.calls import MONTHS, Things, calls, raw_frames
from tests.properties.flat import differences, flat
from ultrum.core.pricing import hierarchical_costs

_SHUFFLE = np.random.default_rng(1)


def stamps(index, zone=None):
    """Month ends, or the days themselves, as midnights of a time zone."""
    days = index.to_timestamp(how="end").normalize() if isinstance(index, pd.PeriodIndex) else index
    return days.tz_localize(zone)


LAYOUTS = {
    "newest first, object columns": lambda f: f.iloc[::-1].astype(object),
    "rows out of order, nullable floats": lambda f: f.iloc[_SHUFFLE.permutation(len(f))].astype("Float64"),
    "columns permuted": lambda f: f.iloc[:, ::-1],
    "month ends as timestamps": lambda f: f.set_axis(stamps(f.index)),
    "east of Greenwich": lambda f: f.set_axis(stamps(f.index, "Asia/Tokyo")),
    "west of Greenwich": lambda f: f.set_axis(stamps(f.index, "America/Lima")),
}
SLOW = {"evaluate_betas", "hierarchical_cost_of_equity", "kalman_beta", "time_varying_betas"}  # tried once
ORDERED = {"composite", "splice", "monotonicity_tests"}  # what is first matters in these


def plain(t):
    """Calls that take pandas as it is."""
    raw = t.raw
    net = raw["assets"].sub(raw["bill"]["bill"], axis=0)
    return {
        "regress on pandas": lambda: ul.regress(net["a"], raw["market"]),
        "rolling_regress on pandas": lambda: ul.rolling_regress(net, raw["market"], window=24),
        "risk_return on pandas": lambda: ul.risk_return(raw["assets"]),
        "momentum on pandas": lambda: ul.momentum(raw["assets"]),
        "correlations on pandas": lambda: ul.correlations(raw["assets"], window=24),
        "drawdowns on pandas": lambda: ul.drawdowns(raw["assets"]),
        "match_dates on pandas": lambda: ul.match_dates(["2005-06-03", "2006-06-04"], raw["daily"]),
    }


def results(frames, skip=()):
    """Every function's numbers on frames of some layout; an error where there is one."""
    found = {}
    quick = mock.patch.object(hierarchical_costs, "_BURNED", 1)  # the draws before those that count
    with warnings.catch_warnings(), quick:
        warnings.simplefilter("ignore")
        things = Things(frames)
        every = {
            name: lambda n=name, a=args, k=named: getattr(ul, n)(*a, **k)
            for name, (args, named) in calls(things).items()
        }
        for name, call in {**every, **plain(things)}.items():
            if name not in skip:
                found[name] = flat(call())
    return found


class Layouts(unittest.TestCase):
    def test_numbers_do_not_depend_on_the_layout(self):
        want = results(raw_frames())
        self.assertGreater(sum(map(len, want.values())), 20_000)
        for layout, lay_out in LAYOUTS.items():
            skip = () if "columns permuted" in layout else SLOW
            got = results({name: lay_out(f) for name, f in raw_frames().items()}, skip)
            for name in want.keys() - skip:
                if layout == "columns permuted" and name in ORDERED:
                    continue
                both = got[name], want[name]
                if "on pandas" in name:  # labels are those given
                    both = map(_by_month, both)
                if layout == "columns permuted":
                    both = map(_unordered, both)
                with self.subTest(layout=layout, function=name):
                    self.assertEqual(differences(*both)[:3], [])

    def test_gaps_as_absent_rows_are_gaps_as_missing_values(self):
        """A year with months left out, and three weeks of days: what is there agrees."""
        months = np.ones(len(MONTHS), dtype=bool)
        months[[20, 21, 47]] = False
        base = raw_frames()
        absent, empty = {}, {}
        for name, frame in base.items():
            kept = months if len(frame) == len(MONTHS) else np.ones(len(frame), dtype=bool)
            if len(frame) != len(MONTHS):
                kept[200:215] = False
            absent[name] = frame[kept]
            empty[name] = frame.where(np.broadcast_to(kept[:, None], frame.shape))
        # these list rows, repeat or interpolate values, or count the rows that are listed
        skip = {"calendar_returns", "composite", "cumulate", "deflate", "disaggregate", "fill", "positions",
                "innovations", "match_dates", "model_table", "splice", "flag_price_errors",
                "to_bars", "zero_volume_share"}  # fmt: skip
        got, want = results(absent, skip), results(empty, skip)
        for name, numbers in want.items():
            with self.subTest(name):
                there = {k: v for k, v in numbers.items() if not np.isnan(v) and k in got[name]}
                self.assertGreater(len(there), 0)
                mine = {k: got[name][k] for k in there}
                for key in [k for k in there if "/dropped/" in k]:  # an absent row cannot be counted
                    mine.pop(key)
                    there.pop(key)
                self.assertEqual(differences(mine, there)[:3], [])

    def test_rows_twice_and_infinite_values_are_refused(self):
        for name in raw_frames():
            frames = raw_frames()
            frames[name] = pd.concat([frames[name], frames[name].iloc[5:6]])
            with self.subTest(name, fault="a row twice"), self.assertRaises(ul.UltrumError):
                Things(frames)
            frames = raw_frames()
            frames[name].iloc[7, 0] = np.inf
            with self.subTest(name, fault="infinite"), self.assertRaisesRegex(ul.UltrumError, "infinite"):
                Things(frames)
        t = Things()
        twice = pd.concat([t.raw["market"], t.raw["market"].iloc[5:6]])
        with self.assertRaises(ul.UltrumError):
            ul.regress(t.raw["assets"]["a"], twice)
        wrong = t.raw["assets"].copy()
        wrong.iloc[5, 1] = -np.inf
        x = t.raw["market"]
        for call in (
            lambda: ul.regress(wrong, x), lambda: ul.regress(x, wrong),
            lambda: ul.regress(wrong.to_numpy(), x.to_numpy()),
            lambda: ul.rolling_regress(wrong, x), lambda: ul.rolling_regress(x, wrong, window=24),
            lambda: ul.two_pass(t.panel, [], characteristics={"size": wrong}),
        ):  # fmt: skip
            with self.assertRaisesRegex(ul.UltrumError, "infinite at (2005-06|5)"):
                call()
        for call in (
            lambda: ul.SeriesTable.from_pandas(t.raw["assets"] * 1j),
            lambda: ul.regress(t.raw["assets"] * 1j, x),
            lambda: ul.regress(t.raw["assets"].to_numpy() * 1j, x.to_numpy()),
        ):
            with self.assertRaisesRegex(ul.UltrumError, "complex"):
                call()
        for rate, premium in ((np.nan, 0.05), (0.03, np.inf)):
            with self.assertRaisesRegex(ul.UltrumError, r"is (nan|inf)(; (give|take|use)|\. Pass) a number"):
                ul.cost_of_equity(t.betas, premia={"market": premium}, risk_free=rate)
        with self.assertRaisesRegex(ul.UltrumError, "divided by zero"):
            t.bill / 0

    def test_one_row_and_as_many_rows_as_coefficients(self):
        """A few rows give numbers or an error in words, never one of another library."""
        for rows in (0, 1, 2, 3):
            frames = {name: f.iloc[:rows] for name, f in raw_frames().items()}
            whole = Things()
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                self._each_answers(rows, frames, whole)

    def _each_answers(self, rows, frames, whole):
        few = Things()
        for name in ("assets", "market", "bill", "prices", "daily", "cpi", "whole", "yields", "quote"):
            part = getattr(whole, name)
            setattr(few, name, type(part)(part.values.iloc[:rows], part.metadata))
        few.volume = few.daily.with_metadata(measure="flow", currency="")
        try:
            made = calls(few)
        except ul.UltrumError:
            return
        for name, (args, named) in made.items():
            with self.subTest(name, rows=rows):
                try:
                    getattr(ul, name)(*args, **named)
                except ul.UltrumError as error:
                    self.assertGreater(len(str(error)), 20)


def _by_month(numbers):
    """Month ends named by their month."""
    made = {}
    for key, value in numbers.items():
        head, _, tail = key.rpartition("/")
        made[f"{head}/{tail[:7] if tail[:2] == '20' and 'daily' not in head else tail}"] = value
    return made


def _unordered(numbers):
    """Numbers by what they are of, not by where their column stands."""
    made = {}
    for key, value in numbers.items():
        parts = [p for p in key.replace(" / ", "~").split("/") if not p.isdigit()]
        parts = ["~".join(sorted(p.split("~"))) for p in parts]  # a pair is a pair either way
        made.setdefault("/".join(parts), []).append(value)
    return {
        f"{key}/{place}": value
        for key, values in made.items()
        for place, value in enumerate(sorted(values, key=lambda v: (np.isnan(v), v)))
    }
