"""Nothing dated t changes when later rows are removed; what goes in comes out or is reported."""

import re
import unittest
import warnings

import numpy as np
import pandas as pd

import ultrum as ul
from tests.properties.calls import DAYS, MONTHS, Things, calls, random_frame, raw_frames
from tests.properties.flat import differences, flat
from ultrum.errors import AlignmentError

CUT_MONTH, CUT_DAY = MONTHS[70], DAYS[455]
# results that look at the whole sample, as their documentation says
HINDSIGHT = {
    "adjust_prices",  # earlier prices are scaled by later dividends
    "calendar_returns",  # a year is one figure
    "composite", "standardise",  # over all periods by default
    "conditional_beta", "premium", "two_pass",  # coefficients and means of the whole sample
    "deflate",  # in the prices of the last period by default
    "disaggregate",  # lines between ends
    "mimicking_portfolios",  # slopes of the whole sample
    "innovations",  # an autoregression of the whole sample
    "model_table", "beta_sensitivity",  # no dates
}  # fmt: skip
SCALED = {"adjust_prices", "portfolio"}  # earlier prices are scaled by later dividends; the returns are the same
SMOOTHED = {"kalman_beta": ("beta", "standard_error"), "time_varying_betas": ("paths",)}
_DATED = re.compile(r"/(\d{4}-\d{2}(?:-\d{2})?)$")


def dated(name, result, last_month, last_day):
    """Numbers whose row is a month or day up to the last of each, by label."""
    if isinstance(result, ul.RollingFit):
        result = {
            f"{field} {term}": result.frame(field, term)
            for field in ("coefficients", "standard_errors")
            for term in result.terms
        }
    made = {}
    for key, value in flat(result).items():
        found = _DATED.search(key)
        if found and not any(key.startswith(f"/{part}/") for part in SMOOTHED.get(name, ())):
            limit = last_month if len(found[1]) == 7 else last_day
            if found[1] <= limit:
                made[key] = value
    return made


def _series_of(result):
    if isinstance(result, ul.SeriesTable):
        return [result[n] for n in result.names]
    return [result] if isinstance(result, ul.TimeSeries) else []


class Truncation(unittest.TestCase):
    def test_nothing_dated_t_changes_when_later_rows_are_removed(self):
        whole = raw_frames()
        early = {
            name: f[: (CUT_MONTH if isinstance(f.index, pd.PeriodIndex) else CUT_DAY)]
            for name, f in whole.items()
        }
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            full, cut = Things(whole), Things(early)
            checked = 0
            for (name, (args, named)), (mine, mine_named) in zip(
                calls(full).items(), calls(cut).values(), strict=True
            ):
                if name in HINDSIGHT:
                    continue
                months_of_days = str((CUT_DAY - pd.offsets.MonthEnd()).to_period("M"))
                limits = (months_of_days if name == "to_bars" else str(CUT_MONTH), str(CUT_DAY.date()))
                want = dated(name, getattr(ul, name)(*args, **named), *limits)
                got = dated(name, getattr(ul, name)(*mine, **mine_named), *limits)
                with self.subTest(name):
                    got |= {k: np.nan for k, v in want.items() if np.isnan(v) and k not in got}
                    self.assertEqual(differences(got, want)[:3], [])
                checked += bool(want)
        self.assertGreater(checked, 25)

    def test_series_whose_past_moves_with_later_rows_are_marked(self):
        marked = {}
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            frames = [raw_frames(), {n: f.iloc[: len(f) * 3 // 4] for n, f in raw_frames().items()}]
            full, cut = (calls(Things(f)) for f in frames)
            for name, (args, named) in full.items():
                made, early = getattr(ul, name)(*args, **named), getattr(ul, name)(*cut[name][0], **cut[name][1])
                for whole, part in zip(_series_of(made), _series_of(early), strict=False):
                    both = pd.concat([whole.values, part.values], axis=1).loc[part.index].dropna()
                    share = (both.iloc[:, 1] / both.iloc[:, 0]).where(both.iloc[:, 0].abs() > 1e-12)
                    moves = bool(len(both)) and not np.allclose(share.dropna(), share.median(), rtol=1e-9)
                    with self.subTest(name, series=whole.name):
                        inside = name == "disaggregate"  # months follow from a quarter that is not over
                        self.assertEqual(bool(whole.metadata.hindsight), inside or (moves and name not in SCALED))
                    marked.setdefault(bool(whole.metadata.hindsight), set()).add(name)
        self.assertLessEqual({"composite", "standardise", "innovations", "disaggregate"}, marked[True])
        self.assertGreater(len(marked[False]), 15)

    def test_a_panel_takes_hindsight_only_by_name(self):
        t = Things()
        gauge = ul.standardise(t.yields).with_metadata(name="gauge")
        panel = {"assets": t.assets, "factors": t.market, "risk_free": t.bill, "conditions": gauge}
        for known_by in ("P1M", {"gauge": "P1M"}):
            with self.assertRaises(AlignmentError) as caught:
                ul.align(**panel, known_by=known_by)
        fixes = caught.exception.recommended
        self.assertEqual((fixes["window"], list(fixes)), (("expanding",), ["window", "known_by"]))
        ul.align(**panel, known_by={"gauge": "hindsight"})
        fixed = ul.standardise(t.yields, window=fixes["window"][0]).with_metadata(name="gauge")
        self.assertEqual(
            ul.align(**panel | {"conditions": fixed}, known_by="P1M").conditions.columns.tolist(), ["gauge"]
        )
        for made in (gauge + 1.0, ul.lag(gauge, 1), ul.rolling(gauge, 3), -gauge):
            self.assertEqual(made.metadata.hindsight, gauge.metadata.hindsight)
        with self.assertRaisesRegex(AlignmentError, "known_by names 'guage'.*did you mean 'gauge'"):
            ul.align(**panel, known_by={"gauge": "hindsight", "guage": "P1M"})
        early = pd.DataFrame({"period": ["2010-01"], "released": ["2009-12-15"], "value": [1.0]})
        with self.assertRaisesRegex(AlignmentError, "2010-01 has the release date 2009-12-15, before"):
            ul.align(**panel | {"conditions": fixed}, known_by={"gauge": early})

    def test_periods_that_later_rows_finish_are_left_out(self):
        daily = Things().daily
        for end in ("2006-08-14", "2006-08-30", "2006-08-31"):
            part = ul.SeriesTable(daily.values.loc[:end], daily.metadata)
            ends = ul.to_frequency(part, "M").to_pandas()
            full = ul.to_frequency(daily, "M").to_pandas()
            last = "2006-08" if end == "2006-08-31" else "2006-07"
            self.assertEqual(str(ends.index[-1]), last)
            pd.testing.assert_frame_equal(ends, full[:last])


class Conservation(unittest.TestCase):
    def test_series_keep_their_number_names_and_inputs(self):
        t = Things()
        before = {name: f.copy() for name, f in t.raw.items()}
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for name, (args, named) in calls(t).items():
                made = getattr(ul, name)(*args, **named)
                if isinstance(made, ul.SeriesTable) and isinstance(args[0], ul.SeriesTable):
                    with self.subTest(name):
                        if name != "bands":
                            self.assertEqual(made.names, args[0].names)
                        self.assertEqual(len(list(made)), len(made))
                        self.assertTrue(all(n in made for n in made.names))
        for name, frame in before.items():
            pd.testing.assert_frame_equal(t.raw[name], frame)

    def test_rows_of_a_regression_are_used_or_dropped_with_a_cause(self):
        rng = np.random.default_rng(4)
        t = Things()
        y = ul.excess(t.assets, t.bill).to_pandas()
        y = y.where(rng.random(y.shape) > 0.1).iloc[5:]
        X = t.raw["market"].assign(other=rng.normal(size=96)).iloc[:-7]
        X.iloc[[10, 30], 0], X.iloc[[30, 40], 1] = np.nan, np.nan
        table = ul.regress(y, X)
        history = [len(y.loc[c.first_valid_index() : c.last_valid_index()]) for _, c in y.items()]
        np.testing.assert_array_equal(table.nobs + table.dropped.sum(axis=1), history)
        np.testing.assert_array_equal(table.observations_dropped, table.dropped.sum(axis=1))
        self.assertEqual(
            set(table.dropped),
            {"missing dependent variable", "missing market", "missing other", "missing market and other",
             "no factors"})  # fmt: skip
        lone = y["a"].loc[X.index[30]]
        self.assertEqual(table.dropped.loc["a", "missing market and other"], int(np.isfinite(lone)))

    def test_observations_that_a_panel_drops_are_counted_by_the_series_that_caused_it(self):
        t = Things()
        late = random_frame(["late"], MONTHS, 0.03)["late"]
        late.iloc[:15] = np.nan
        late.iloc[40] = np.nan
        late = ul.TimeSeries.from_pandas(late, measure="return", excess_of="bill", currency="QML")
        assets = t.raw["assets"].copy()
        assets.iloc[:10, 0] = np.nan
        assets = ul.SeriesTable.from_pandas(assets, measure="return", currency="QML")
        panel = ul.align(assets=assets, factors=[t.market, late], risk_free=t.bill)
        table = ul.factor_betas(panel, ["market"])
        self.assertEqual(table.dropped["missing late"].to_dict(),
                         {"a": 6, "b": 16, "c": 16, "d": 16, "e": 16, "f": 16})  # fmt: skip
        own = table.fit("a")
        self.assertEqual(own.nobs + own.dropped["missing late"], assets["a"].values.notna().sum())
        self.assertIn("6 missing late", repr(own))
        part = panel.sample("2006-01", "2009-12")
        self.assertEqual(ul.factor_betas(part).dropped.loc["b", "missing late"], 4)
        self.assertEqual(part.coverage.loc["a", ["first", "rows", "gaps"]].tolist(), ["2006-01", 48, 0])
        self.assertEqual(part.coverage.loc["late", ["first", "rows", "gaps", "costs"]].tolist(),
                         ["2006-04", 44, 1, 4])  # fmt: skip
