"""Exchange rates of any pair, and series moved between currencies, each in its own right way."""

import pickle

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul
from tests.support import Scratch, daily, series
from ultrum.errors import CurrencyError

DAYS = pd.bdate_range("2024-01-01", "2024-12-31")


def quote(pair, seed, start=2.0, days=DAYS, **facts):
    values = start * np.exp(np.cumsum(np.random.default_rng(seed).normal(0, 0.005, len(days))))
    return ul.TimeSeries.from_pandas(
        pd.Series(values, days), name=pair.replace("/", ""), measure="quote", unit=pair, frequency="B", **facts
    )


def table(**more):
    return ul.ExchangeRates([quote("QSR/QML", 1), quote("QTV/QML", 2, 5.0), quote("QTV/QZA", 3, 0.5)], **more)


class Rates(Scratch):
    def test_inverse_and_crosses_by_the_fewest_steps(self):
        rates, day = table(), "2024-07-31"
        a, b, c = (float(rates.series(*p).values[day]) for p in (("QSR", "QML"), ("QTV", "QML"), ("QTV", "QZA")))
        got = rates.rate("QSR", "QZA", on=day)
        self.assertAlmostEqual(got, a / b * c, places=14)
        self.assertEqual(got.path, ("QSR", "QML", "QTV", "QZA"))
        self.assertEqual(float(rates.rate("QML", "QML", on=day)), 1.0)
        matrix = rates.matrix(on=day)
        np.testing.assert_allclose(matrix.to_numpy() * matrix.to_numpy().T, 1.0, rtol=1e-14)
        self.assertAlmostEqual(matrix.loc["QSR", "QZA"], got, places=14)
        self.assertEqual(pickle.loads(pickle.dumps(got)).path, got.path)
        self.assertEqual(len(rates.last(5, "QML", "QSR")), 5)

    def test_a_missing_day_takes_the_last_before_up_to_an_age(self):
        rates = ul.ExchangeRates([quote("QSR/QML", 1, days=DAYS[:100])])
        last = DAYS[99]
        self.assertEqual(rates.rate("QSR", "QML", on=last + pd.offsets.BDay(5)).days, (str(last)[:10],))
        newest = rates.rate("QSR", "QML")
        self.assertEqual((newest.days, newest), ((str(last)[:10],), rates.rate("QSR", "QML", on=last)))
        with self.refused(CurrencyError, str(last)[:10], "5 weekdays", "stale_after"):
            rates.rate("QSR", "QML", on=last + pd.offsets.BDay(6))
        with self.refused(CurrencyError, "begin 2024-01-01"):
            rates.rate("QSR", "QML", on="2023-12-29")
        self.assertTrue(np.isnan(rates.rates("QSR", "QML", ["2023-12-29"])[0]))

    def test_unknown_unconnected_and_doubled_are_refused(self):
        with self.refused(CurrencyError, "did you mean 'QTV'"):
            table().rate("QTW", "QML")
        apart = ul.ExchangeRates([quote("QSR/QML", 1), quote("QTV/QZA", 3)])
        with self.refused(CurrencyError, "No quotes connect", "QSR/QML"):
            apart.rate("QSR", "QZA")
        with self.refused(CurrencyError, "both quote", "splice"):
            ul.ExchangeRates([quote("QSR/QML", 1), quote("QML/QSR", 2).with_metadata(name="again")])
        with self.refused(CurrencyError, "BASE/QUOTE"):
            ul.ExchangeRates([daily([1.0, 2.0], measure="quote", unit="QSR")])
        with self.refused(CurrencyError, "all must be positive"):
            ul.ExchangeRates([daily([1.0, 0.0], measure="quote", unit="QSR/QML")])

    def test_a_triangle_that_does_not_close_is_reported(self):
        one, two = quote("QSR/QML", 1), quote("QTV/QML", 2, 5.0)
        third = ul.ExchangeRates([one, two]).series("QTV", "QSR")
        self.assertEqual(len(ul.ExchangeRates([one, two, third]).unclosed), 0)
        off = third.to_pandas()
        off.iloc[50] *= 1.01
        bad = ul.ExchangeRates([one, two, ul.TimeSeries(off, third.metadata)])
        row = bad.unclosed.iloc[0]
        self.assertEqual(
            (row["triangle"], row["day"], row["days_beyond"]), ("QML QSR QTV", str(DAYS[50])[:10], 1)
        )
        self.assertRegex(repr(bad), r"QML QSR QTV does not close: -0\.99 % on .*, beyond .* on 1 day")

    def test_invoices_in_several_currencies_on_their_days(self):
        rates = table()
        days = ["2024-02-05", "2024-02-10", "2024-03-01"]
        got = rates.amount([100.0, 200.0, 300.0], ["QSR", "QTV", "QML"], "QML", on=days)
        want = [
            100 * rates.rate("QSR", "QML", on=days[0]),
            200 * rates.rate("QTV", "QML", on="2024-02-09"),
            300.0,
        ]
        np.testing.assert_allclose(got, want, rtol=1e-14)
        self.assertAlmostEqual(
            rates.amount(10, "QSR", "QTV", on=days[0]), 10 * rates.rate("QSR", "QTV", on=days[0])
        )
        with self.refused(CurrencyError, "2020-01-01"):
            rates.amount([1.0], ["QSR"], "QML", on=["2020-01-01"])


class Moved(Scratch):
    @settings(max_examples=30, deadline=None)
    @given(
        st.sampled_from(["price", "flow", "stock", "return", "log_return"]),
        st.sampled_from(["B", "M"]),
        st.integers(0, 10**6),
    )
    def test_there_and_back_is_the_identity(self, measure, frequency, seed):
        rng = np.random.default_rng(seed)
        values = rng.normal(0.01, 0.02, 8) if "return" in measure else rng.uniform(1, 9, 8)
        make = daily if frequency == "B" else series
        x = make(values, start="2024-03-01", measure=measure, currency="QSR")
        back = ul.to_currency(ul.to_currency(x, "QTV", table()), "QSR", table())
        if measure == "flow" and frequency == "M":  # the mean of inverses is no inverse of the mean
            np.testing.assert_allclose(back.values, values, rtol=1e-2)
        else:
            np.testing.assert_allclose(back.values, values, rtol=1e-12, atol=1e-15)
        self.assertEqual(back.metadata.currency, "QSR")

    def test_each_measure_its_own_way(self):
        pair = quote("QSR/QML", 1)
        month = pair.to_pandas()["2024-03"]
        at = {"price": month.iloc[-1], "stock": month.iloc[-1], "flow": month.mean()}
        for measure, rate in at.items():
            x = series([10.0], start="2024-03", measure=measure, currency="QSR")
            self.assertAlmostEqual(ul.to_currency(x, "QML", pair).values.iloc[0], 10 * rate, places=12)
        change = month.iloc[-1] / pair.to_pandas()["2024-02"].iloc[-1] - 1
        r = series([0.03], start="2024-03", measure="return", currency="QSR")
        self.assertAlmostEqual(ul.to_currency(r, "QML", pair).values.iloc[0], 1.03 * (1 + change) - 1, places=14)
        day = daily([0.03], start="2024-03-04", measure="return", currency="QSR", frequency="B")
        moved = pair.to_pandas()["2024-03-04"] / pair.to_pandas()["2024-03-01"] - 1
        self.assertAlmostEqual(ul.to_currency(day, "QML", pair).values.iloc[0], 1.03 * (1 + moved) - 1, places=14)

    def test_returns_of_converted_prices_are_converted_returns(self):
        price = daily(np.linspace(50, 60, 60), start="2024-02-01", measure="price", currency="QSR", frequency="B")
        one = ul.returns(ul.to_currency(price, "QML", table())).values
        other = ul.to_currency(ul.returns(price), "QML", table()).values
        np.testing.assert_allclose(one, other, rtol=1e-12, atol=1e-15)

    def test_averages_for_ends_and_the_reverse_are_refused(self):
        mean, end = (ul.to_frequency(quote("QSR/QML", 1), "M", how=h) for h in ("mean", "last"))
        price, flow = (
            series([1.0], start="2024-03", measure=m, currency="QSR", name=m) for m in ("price", "flow")
        )
        with self.refused(CurrencyError, "rates at each period's end", "daily quotes"):
            ul.to_currency(price, "QML", mean)
        with self.refused(CurrencyError, "averages of each period"):
            ul.to_currency(flow, "QML", end)
        self.assertEqual(len(ul.to_currency(flow, "QML", mean)), 1)
        with self.refused(CurrencyError, "only quarterly"):
            ul.to_currency(price, "QML", ul.to_frequency(quote("QSR/QML", 1), "Q"))
        with self.refused(CurrencyError, "no currency"):
            ul.to_currency(series([1.0], measure="price"), "QML", end)

    def test_series_in_several_currencies_are_not_added_and_not_compared_silently(self):
        noise = np.random.default_rng(3).normal(0.01, 0.04, (2, 60))
        here, there = (
            series(v, measure="return", currency=c, name=c) for v, c in zip(noise, ("QML", "QSR"), strict=True)
        )
        mixed, value = ul.SeriesTable.of([here, there]), np.linspace(1.0, 2.0, 60)
        sizes = [series(value, measure="stock", currency=c, name=c) for c in ("QML", "QSR")]
        same = ul.SeriesTable.of([here, there.with_metadata(currency="QML")])
        for work in (lambda: ul.portfolio(mixed), lambda: ul.portfolio(same, weights=ul.SeriesTable.of(sizes))):
            with self.refused(CurrencyError, "in several currencies (QML in QML, QSR in QSR)", "to_currency"):
                work()
        for work in (
            lambda: ul.regress(here, there),
            lambda: ul.rolling_regress(mixed, there, window=24),
            lambda: ul.momentum(mixed),
            lambda: ul.correlations(mixed),
        ):
            with self.assertWarnsRegex(ul.DataWarning, r"in several currencies \(QML in QML, QSR in QSR\)"):
                work()
