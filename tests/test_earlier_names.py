"""Names of the release before still work, with a warning, and give what the new names give."""

import unittest
import warnings

import numpy as np
import pandas as pd

import ultrum as ul

PANEL = ul.practice.panel()
RATE = ul.TimeSeries.from_pandas(
    pd.Series([1.0, -1, -2, 1], pd.period_range("2024-01", periods=4, freq="M")), measure="rate"
)


def column(table, old, new):
    return lambda: table()[old], lambda: table()[new]


def risk():
    return ul.risk_return(PANEL.assets[["BRTW"]], risk_free=PANEL.rate).table


def influence():
    return ul.factor_betas(PANEL, ["market"]).fit("BRTW").influence()


def betas():
    return ul.kalman_beta(PANEL)


def comparison():
    return ul.compare_to_benchmark(PANEL.excess["BRTW"], PANEL.excess["EBMK"])


def peers():
    table = ul.factor_betas(PANEL, ["market"])
    return ul.peer_beta(table, ["BRTW", "EBMK"], debt_to_equity=0.5, target_debt_to_equity=0.3)


def industries():
    table = ul.factor_betas(PANEL, ["market"])
    return ul.industry_betas(table, {"BRTW": "ships", "EBMK": "ships"}, debt_to_equity=0.5)


MARKET = PANEL.factor_table["market"]
EARLIER = {
    "excess_per_risk": column(risk, "excess_per_risk", "sharpe_ratio"),
    "error": column(risk, "error", "sharpe_se"),
    "deviation": column(risk, "deviation", "std"),
    "drawdown": column(risk, "drawdown", "max_drawdown"),
    "depth": column(lambda: ul.spells(RATE, "below zero"), "depth", "extreme_distance"),
    "deepest": column(lambda: ul.spells(RATE, "below zero"), "deepest", "extreme_date"),
    "fall": column(lambda: ul.drawdowns(PANEL.assets[["BRTW"]]).table, ["fall"], ["periods_to_trough"]),
    "shift": column(influence, "shift", "dffits"),
    "cook": column(influence, "cook", "cooks_distance"),
    "how='deviation'": (
        lambda: ul.rolling(RATE, 2, how="deviation").values,
        lambda: ul.rolling(RATE, 2, how="std").values,
    ),
    "known": (lambda: betas().known, lambda: betas().filtered),
    "movement": (lambda: betas().movement, lambda: betas().state_sd),
    "build_up": (
        lambda: pd.Series(ul.figures.build_up.__name__),
        lambda: pd.Series(ul.figures.cost_components.__name__),
    ),
    "ahead": column(lambda: comparison().table, "ahead", "active_return"),
    "information_error": (
        lambda: pd.Series(comparison().information_error),
        lambda: pd.Series(comparison().information_ratio_se),
    ),
    "adjusted": column(lambda: ul.adjust_p_values(pd.Series([0.01, 0.2])), "adjusted", "p_adjusted"),
    "place": column(lambda: peers().peers, "place", "rank"),
    "unlevered_error": column(lambda: peers().peers, "unlevered_error", "unlevered_se"),
    "least": column(industries, "least", "min"),
    "companies": column(industries, "companies", "n"),
    "mean='blend'": (
        lambda: pd.Series(ul.premium(MARKET, mean="blend", horizon=5).value),
        lambda: pd.Series(ul.premium(MARKET, mean="blume", horizon=5).value),
    ),
    "alarms": (lambda: pd.Series(diagnosis().alarms), lambda: pd.Series(diagnosis().rejections)),
}


def diagnosis():
    return ul.diagnose(ul.factor_betas(PANEL, ["market"]).fit("BRTW"), draws=19)


class EarlierNames(unittest.TestCase):
    def test_each_warns_and_gives_the_same(self):
        for name, (old, new) in EARLIER.items():
            with self.subTest(name), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                wanted = new()
                with self.assertWarns(DeprecationWarning) as caught:
                    given = old()
                self.assertEqual(caught.filename, __file__, "the warning is at the user's line")
                np.testing.assert_array_equal(np.asarray(given), np.asarray(wanted))

    def test_arguments_and_studies(self):
        with self.assertWarnsRegex(DeprecationWarning, "time_varying_alpha"), self.assertRaises(ul.UltrumError):
            ul.conditional_beta(PANEL, ["no such condition"], alpha_moves=True)
        with self.assertWarns(DeprecationWarning), self.assertRaisesRegex(ul.UltrumError, "old name"):
            ul.conditional_beta(PANEL, alpha_moves=True, time_varying_alpha=False)
        text = ul.practice.demo_study().read_text(encoding="utf-8")
        self.assertIn('"components"', text)
        with self.assertWarnsRegex(DeprecationWarning, "'components'"):
            study = ul.Study.parse(text.replace('"components"', '"build-up"'))
        self.assertEqual(study, ul.Study.parse(text))


if __name__ == "__main__":
    unittest.main()
