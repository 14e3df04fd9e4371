"""One right call of every public function, on data that can be laid out in other ways first."""

import numpy as np
import pandas as pd

import ultrum as ul

MONTHS = pd.period_range("2005-01", periods=96, freq="M")
DAYS = pd.bdate_range("2005-01-03", periods=600)
ALONE = {"add_source_kind", "add_step", "limits", "run_study", "trail", "read_series", "save"}


def random_frame(names, index, spread):
    """Made-up returns, the same each time for the same names and spread."""
    rng = np.random.default_rng(sum(map(ord, "".join(names))))
    values = 0.008 + spread * rng.standard_normal((len(index), len(names)))
    return pd.DataFrame(values, index, list(names))


def levels(names, index):
    return 100.0 * (1.0 + random_frame(names, index, 0.01)).cumprod()


def raw_frames():
    """Frames of pandas that all things are made of."""
    bill = random_frame(["bill"], MONTHS, 0.001)
    return {
        "assets": random_frame("abcdef", MONTHS, 0.05),
        "market": random_frame(["market"], MONTHS, 0.04),
        "bill": bill,
        "prices": levels("ab", MONTHS),
        "daily": levels("abc", DAYS),
        "cpi": levels(["cpi"], MONTHS),
    }


class Things:
    """One of each, all fitting together; ``frames`` may be laid out in another way."""

    def __init__(self, frames=None, frequency="M"):
        self.frequency = frequency
        raw = self.raw = frames or raw_frames()
        money = {"currency": "QML"}
        table_of = ul.SeriesTable.from_pandas

        def one(name, **facts):
            return table_of(raw[name], **facts).only()

        self.assets = table_of(raw["assets"], measure="return", **money)
        self.market = one("market", measure="return", excess_of="bill", **money)
        self.whole = self.market.with_metadata(name="whole", excess_of="")
        self.bill = one("bill", measure="return", **money)
        self.yields = (self.bill * 12.0).with_metadata(
            measure="rate", name="yields", title="", unit="decimal", **money
        )
        self.prices = table_of(raw["prices"], measure="price", **money)
        self.daily = table_of(raw["daily"], measure="price", **money)
        self.cpi = one("cpi", measure="index", timing="average")
        self.quote = self.cpi.with_metadata(name="quote", measure="quote", unit="QML/VTC", timing="end")
        score = self.yields.with_metadata(name="state")
        self.panel = ul.align(assets=self.assets, factors=self.market, risk_free=self.bill,
                              conditions=score, known_by="P1M", frequency=frequency)  # fmt: skip
        self.fit = ul.regress(ul.excess(self.assets, self.bill)["a"], self.market)
        self.years = pd.Series(self.fit.response.index.year, self.fit.response.index)
        self.betas = ul.factor_betas(self.panel)
        self.paid = pd.DataFrame({"asset": ["a"], "date": ["2005-06-01"], "amount": [1.0]})
        self.filed = pd.DataFrame(
            {"asset": ["a"], "period": ["2005-12-31"], "released": ["2006-03-04"], "value": [1.0]}
        )
        self.sorted = ul.sort_portfolios(self.assets, {"past": self.assets}, groups=2)
        self.premia = {"market": ul.premium(self.market)}
        self.two_factors = ul.align(
            assets=self.assets,
            factors=ul.SeriesTable.of(
                [self.market, ul.excess(self.assets, self.bill)["f"].with_metadata(name="news")]
            ),
            risk_free=self.bill,
            frequency=frequency,
        )
        many = random_frame("abcdefghij", self.panel.factors.index, 0.05)
        self.many_betas = ul.regress(many, self.panel.factors)
        self.expected = pd.DataFrame(
            {"price": [50.0, 20.0], "dividend_1": [2.0, 1.0], "growth": 0.03}, ["a", "b"]
        )
        self.implied = ul.implied_cost_of_equity(self.expected, model="constant growth")
        self.history = pd.DataFrame(
            {"asset": "a", "period": [2020, 2021, 2022], "forecast": [1.1, 2.1, 3.4], "outcome": [1.0, 2.0, 3.0]}
        )
        self.volume = self.daily.with_metadata(measure="flow", currency="")
        self.bought = pd.DataFrame({"asset": ["a"], "date": ["2005-06-01"], "units": [1.0]})


def calls(t):
    """A right call of every public function: positional arguments, then those by name."""
    net = ul.excess(t.assets, t.bill)
    of_panel = (
        "conditional_beta downside_beta factor_betas kalman_beta joint_alpha_test dimson_beta panel_regress "
        "two_pass up_down_betas"
    )
    of_returns = "correlations cumulate drawdowns momentum portfolio risk_return to_log to_simple"
    of_levels = "bands difference fill growth lag rebase returns standardise"
    on_returns = {"calendar_returns": [t.whole], "distribution": [t.whole], "premium": [t.market]}
    return {
        **{name: ([t.panel], {}) for name in of_panel.split()},
        **{name: ([t.assets], {}) for name in of_returns.split()},
        **{name: ([t.prices], {}) for name in of_levels.split()},
        **{name: (given, {}) for name, given in on_returns.items()},
        "shrink_betas": ([t.betas], {}),
        "return_characteristic": ([t.assets, "momentum"], {}),
        "market_value": ([t.prices, t.prices.with_metadata(measure="stock")], {}),
        "combine_share_classes": ([t.prices.with_metadata(measure="stock"), {"a": "one", "b": "one"}], {}),
        "point_in_time_accounts": ([t.filed, t.assets], {}),
        "book_to_market": (
            [t.prices.with_metadata(measure="stock"), t.prices.with_metadata(measure="stock")],
            {},
        ),
        "sort_portfolios": ([t.assets, {"past": t.assets}], {"groups": 2}),
        "factor_from_portfolios": ([t.sorted, "past high - past low"], {}),
        "portfolio_table": ([t.sorted, t.market, t.bill], {}),
        "monotonicity_tests": ([t.assets], {"draws": 49}),
        "mimicking_portfolios": ([t.market.with_metadata(name="news"), net], {}),
        "spanning_test": ([t.assets, t.whole], {}),
        "factor_spanning_regressions": ([net], {}),
        "sharpe_ratio_tests": ([net, "a"], {"draws": 49}),
        "compare_models": ([t.two_factors, {"one": ["market"], "two": ["news"]}], {"draws": 49}),
        "mincer_zarnowitz_test": ([t.raw["assets"]["a"], t.raw["assets"]["b"]], {}),
        "diebold_mariano_test": ([t.raw["assets"]["a"], t.raw["assets"]["b"]], {}),
        "model_confidence_set": ([t.raw["assets"]], {"draws": 49}),
        "evaluate_betas": (
            [t.assets, t.whole],
            {
                "risk_free": t.bill,
                "windows": ["P2Y"],
                "frequencies": ["M"],
                "estimators": ["ols"],
                "adjustments": ["none", "blume"],
                "every": "P3M",
                "draws": 49,
            },
        ),
        "implied_cost_of_equity": ([t.expected], {"model": "constant growth"}),
        "forecast_bias": ([t.history], {}),
        "compare_costs": ([{"one": t.implied, "two": t.implied}, "a"], {}),
        "implied_premium": ([t.implied, pd.Series({"a": 2.0, "b": 1.0}), 0.02], {}),
        "hierarchical_cost_of_equity": (
            [t.many_betas, dict.fromkeys(t.many_betas.assets, "ships")],
            {"premia": t.premia, "risk_free": 0.02, "draws": 49},
        ),
        "adjust_prices": ([t.daily, t.paid], {}),
        "align": ([], {"assets": t.assets, "factors": t.market, "risk_free": t.bill, "frequency": t.frequency}),
        "beta_sensitivity": (
            [t.assets, t.whole, "a"],
            {"risk_free": t.bill, "windows": ["P5Y"], "frequencies": ["M"]},
        ),
        "break_test": ([t.fit], {}),
        "composite": ([[t.yields, t.yields.with_metadata(name="other")]], {}),
        "cost_comparison": ([{"ols": t.betas}], {"asset": "a", "premia": t.premia, "risk_free": 0.02}),
        "conversion_workings": ([t.bill, "Q", "2006-Q2"], {}),
        "cost_of_equity": ([t.betas], {"premia": t.premia, "risk_free": 0.02}),
        "currency_factor": ([t.bill.with_metadata(currency="VTC", name="theirs"), t.bill, t.quote], {}),
        "deflate": ([t.prices, t.cpi], {}),
        "diagnose": ([t.fit], {}),
        "disaggregate": ([t.cpi.with_metadata(timing="end"), "D"], {"how": "linear"}),
        "dividend_yield": ([t.daily, t.paid], {}),
        "excess": ([t.assets, t.bill], {}),
        "positions": ([t.bought, t.daily], {}),
        "industry_betas": ([t.betas, {"a": "ships", "b": "ships"}], {"debt_to_equity": 0.5}),
        "hierarchical_betas": ([t.betas, dict.fromkeys(t.betas.assets, "ships")], {}),
        "innovations": ([t.yields + (0.01 * t.market).with_metadata(excess_of="", measure="rate", title="")], {}),
        "match_dates": ([["2005-02-01"], t.daily], {}),
        "model_table": ([{"one": t.fit}], {}),
        "peer_beta": ([t.betas, ["a", "b"]], {"debt_to_equity": 0.5}),
        "yield_to_return": ([t.yields.with_metadata(quoted="effective")], {}),
        "regress": ([net["a"], t.market], {}),
        "wild_cluster_test": ([t.fit, t.years, "market"], {"draws": 99}),
        "predictive_regression": ([t.whole, t.yields], {}),
        "adjust_p_values": ([t.fit.p_values], {}),
        "time_varying_betas": ([t.panel, "a"], {"window": 48}),
        "instrumented_premia": ([t.panel], {}),
        "step_down_alphas": ([t.panel], {"draws": 49}),
        "compare_to_benchmark": ([t.whole, t.bill], {}),
        "relever": ([1.0, 0.5], {}),
        "forward_returns": ([t.whole, ["2006-01", "2007-01"]], {}),
        "rolling": ([t.assets, 12], {}),
        "rolling_regress": ([net, t.market], {}),
        "spells": ([t.assets, "below zero"], {}),
        "splice": ([t.prices["a"], t.prices["a"]], {}),
        "spread": ([t.whole, t.bill], {}),
        "flag_price_errors": ([t.daily], {}),
        "to_bars": ([t.daily["a"], "M"], {}),
        "to_currency": ([t.prices, "VTC", t.quote], {}),
        "to_frequency": ([t.prices, "Q"], {}),
        "mask_untraded": ([t.daily, t.volume], {}),
        "unlever": ([1.0, 0.5], {}),
        "zero_volume_share": ([t.daily, t.volume], {}),
    }
