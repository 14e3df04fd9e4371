"""The job on ordinary files: ``ultrum estimate``, ``ultrum new`` and the studies they write."""

import contextlib
import json
import re
import sqlite3
import tomllib
import unittest
import warnings

import numpy as np
import pandas as pd
from PIL import Image

import ultrum as ul
from tests.support import Scratch, command
from ultrum.errors import TableError
from ultrum.practice.statistics_service import DATA
from ultrum.sources.table.factor_columns import factor_table
from ultrum.sources.table.price_and_event_columns import event_columns, price_table

BETAS = {"KELP": 1.2, "TIDE": 0.7, "SALT": 1.0}
PROSE = "Factors of the harbour college.\nReturns in percent a month; Mkt-RF is in excess of RF.\n\n"
ANNUAL = "\n Annual factors\n,Mkt-RF,SMB,RF\n2015,5.10,1.20,1.80\n2016,4.10,1.20,1.80\n\nMade by hand.\n"


class OwnFiles(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(3)
        days = pd.bdate_range("2015-01-01", "2020-12-31")
        market = rng.normal(0.0004, 0.01, len(days))
        steps = {n: b * market + rng.normal(0, 0.012, len(days)) for n, b in BETAS.items()}
        self.prices = pd.DataFrame({n: 100 * np.exp(np.cumsum(s)) for n, s in steps.items()}, days)
        self.prices = self.prices.round(4).rename_axis("Date")
        self.index = pd.Series(1000 * np.exp(np.cumsum(market)), days).round(4)
        months = np.exp(pd.Series(market, days).groupby(days.to_period("M")).sum()) - 1
        self.factors = pd.DataFrame({"Mkt-RF": months - 0.0015, "SMB": rng.normal(0, 0.02, len(months)),
                                     "RF": 0.0015}).round(6)  # fmt: skip
        percent = (100 * self.factors).round(4).set_index(self.factors.index.strftime("%Y%m"))
        self.file("factors.csv", PROSE + percent.to_csv(index_label="") + ANNUAL)
        self.factors.rename_axis("month").to_csv(self.folder / "decimal.csv")
        self.index.rename("Close").iloc[::-1].rename_axis("Date").to_csv(self.folder / "index.csv")
        self.prices.to_csv(self.folder / "wide.csv")
        long = self.prices.stack().rename("Close").rename_axis(["Date", "Ticker"]).reset_index()
        long.assign(Volume=1000).to_csv(self.folder / "long.csv", index=False)
        quoted = pd.DataFrame({"Open": self.prices["KELP"] - 1, "Close": 2 * self.prices["KELP"],
                               "Adj Close": self.prices["KELP"],
                               "Volume": [f"{k + 1769888:,}" for k in range(len(days))]})  # fmt: skip
        quoted.iloc[::-1].set_axis(days[::-1].strftime("%m/%d/%Y")).rename_axis("Date").to_csv(
            self.folder / "KELP.csv"
        )
        self.file("dividends.csv", "Ticker,Ex-Date,Pay-Date,Dividends\n" + "".join(
            f"KELP,{y}-05-12,{y}-06-01,1.5\nTIDE,{y}-06-10,{y}-07-01,0.8\n" for y in range(2015, 2020)))  # fmt: skip

    def run_it(self, *words, code=0):
        done = command(*words, cwd=self.folder)
        self.assertEqual(done.returncode, code, done.stderr)
        return done

    def estimated(self, *words):
        answer = json.loads(self.run_it("estimate", *words, "--json").stdout)
        return {a["asset"]: {t["term"]: t for t in a["terms"]} for a in answer["assets"]}, answer

    def monthly(self, prices):
        ends = prices.groupby(prices.index.to_period("M")).last()
        return ends.pct_change(fill_method=None).iloc[1:]

    def by_hand(self, y, *x):
        design = np.column_stack([np.ones(len(y)), *x])
        return np.linalg.lstsq(design, y, rcond=None)[0]

    def test_betas_of_each_kind_of_file_are_those_by_hand(self):
        returns, rates = self.monthly(self.prices), self.factors.iloc[1:]
        excess = returns.sub(rates["RF"], axis=0)
        wanted = {n: self.by_hand(excess[n], rates["Mkt-RF"]) for n in BETAS}
        for file, factors in (("wide.csv", "factors.csv"), ("long.csv", "decimal.csv")):
            with self.subTest(file):
                betas, answer = self.estimated(file, "--factors", factors)
                for name in BETAS:
                    got = [betas[name][t]["coefficient"] for t in ("constant", "Mkt-RF")]
                    np.testing.assert_allclose(got, wanted[name], rtol=1e-6)
                self.assertEqual(answer["basis"], "Monthly returns in excess of RF on Mkt-RF")
        both = self.by_hand(excess["KELP"], rates["Mkt-RF"], rates["SMB"])
        betas, answer = self.estimated("KELP.csv", "--factors", "factors.csv", "--factor", "smb")
        got = [betas["KELP"][t]["coefficient"] for t in ("constant", "Mkt-RF", "SMB")]
        np.testing.assert_allclose(got, both, rtol=1e-6)
        decided = {(d["what"], d["chosen"]) for d in answer["decisions"]}
        self.assertLessEqual({("price column", "'Adj Close', which includes dividends"), ("units", "percent"),
                              ("market", "'Mkt-RF', in excess of RF")}, decided)  # fmt: skip
        self.assertIn("set aside", {d["what"] for d in answer["decisions"]})
        self.assertEqual(answer["unfinished"], {})

    def test_days_without_trade_and_a_month_in_part_are_counted(self):
        cut = pd.DataFrame({"Close": self.prices["TIDE"], "Volume": 100}).iloc[:-4]
        cut.iloc[[40, 700], 1] = 0
        cut.to_csv(self.folder / "TIDE.csv")
        _, answer = self.estimated("TIDE.csv", "--factors", "factors.csv")
        self.assertEqual(answer["unfinished"], {"2020-12 (data end 2020-12-25)": ["TIDE"]})
        self.assertIn(
            "'Volume'; 2 prices of days without trade in the file not used",
            [d["chosen"] for d in answer["decisions"]],
        )
        self.assertEqual(answer["assets"][0]["last"], "2020-11")
        shown = self.run_it("estimate", "TIDE.csv", "--factors", "factors.csv").stdout
        self.assertIn("unfinished periods not used: 2020-12 (data end 2020-12-25)\n", shown)

    def test_an_index_gives_a_market_model_or_one_in_excess_of_a_rate(self):
        y, x = self.monthly(self.prices)["TIDE"], self.monthly(self.index)
        betas, answer = self.estimated("wide.csv", "--factors", "index.csv", "--asset", "TIDE")
        np.testing.assert_allclose(
            [t["coefficient"] for t in betas["TIDE"].values()], self.by_hand(y, x), rtol=1e-6
        )
        self.assertIn("market model, without a risk-free rate", answer["basis"])
        two = pd.read_csv(self.folder / "index.csv", index_col=0)
        two.assign(Other=two.iloc[::-1, 0].to_numpy())[["Other", *two]].to_csv(self.folder / "two.csv")
        same, _ = self.estimated(
            "wide.csv", "--factors", "two.csv", "--asset", "TIDE", "--market", two.columns[-1]
        )
        self.assertEqual([t["coefficient"] for t in same["TIDE"].values()],
                         [t["coefficient"] for t in betas["TIDE"].values()])  # fmt: skip
        self.assertIn("market model", " ".join(w["text"] for w in answer["warnings"]))
        days = y.index.days_in_month / np.where(y.index.to_timestamp().is_leap_year, 366, 365)
        rate = 1.02**days - 1
        betas, answer = self.estimated(
            "wide.csv", "--factors", "index.csv", "--asset", "TIDE", "--risk-free", "2%"
        )
        np.testing.assert_allclose([t["coefficient"] for t in betas["TIDE"].values()],
                                   self.by_hand(y - rate, x - rate), rtol=1e-6)  # fmt: skip
        self.assertIn("in excess of 2 % per year", answer["basis"])

    def test_a_rate_per_annum_is_no_return_of_a_month(self):
        rates = 1.0 + np.arange(len(self.factors)) / 100
        table = pd.DataFrame({"Mkt-RF": (100 * self.factors["Mkt-RF"]).round(4), "RF": rates}).set_axis(
            self.factors.index.strftime("%Y%m")
        )
        self.file(
            "annual.csv",
            "Returns in percent; RF is in percent per annum.\n\n" + table.to_csv(index_label="month"),
        )
        refused = self.run_it("estimate", "KELP.csv", "--factors", "annual.csv", "--json", code=3)
        self.assertIn("'RF' is stated to be per annum", refused.stderr)
        self.assertIn(f"{rates.mean():.2f} %", refused.stderr)
        rate = f"{rates.mean():.4f}%"
        done = self.run_it("estimate", "KELP.csv", "--factors", "annual.csv", "--risk-free", rate, "--json")
        months = self.prices["KELP"].groupby(self.prices.index.to_period("M")).last()
        excess = (months / months.shift() - 1 - ((1 + rates.mean() / 100) ** (1 / 12) - 1)).dropna()
        x = table["Mkt-RF"].to_numpy()[1:] / 100
        beta = np.cov(excess, x)[0, 1] / x.var(ddof=1)
        (found,) = json.loads(done.stdout)["assets"]
        self.assertAlmostEqual(found["terms"][1]["coefficient"], beta, places=4)

    def test_dividends_and_splits_among_the_prices_are_in_the_returns(self):
        raw, day_of_split, paid = self.prices["TIDE"].copy(), pd.Timestamp("2018-06-04"), {}
        raw[raw.index >= day_of_split] /= 2
        for day, amount in (("2016-03-03", 4.0), ("2017-03-03", 5.0), ("2019-03-04", 3.0)):
            paid[pd.Timestamp(day)] = amount
        before = raw.shift(1)
        growth = (raw + pd.Series(paid).reindex(raw.index).fillna(0)) / before
        growth[day_of_split] *= 2
        monthly = growth.groupby(growth.index.to_period("M")).prod().iloc[1:] - 1
        factors = self.factors.loc[monthly.index]
        beta = self.by_hand((monthly - factors["RF"]).to_numpy(), factors["Mkt-RF"])[1]

        def lines(price, dividend, split):
            for day, value in raw.items():
                if day in paid:
                    yield dividend.format(day, paid[day])
                if day == day_of_split:
                    yield split.format(day)
                yield price.format(day, value)

        head = "Date,Open,Close,Volume\n"
        layouts = {
            "text.csv": head + "\n".join(lines("{0:%Y-%m-%d},1,{1},5", "{0:%Y-%m-%d},{1} Dividend,,", "{0:%Y-%m-%d},2:1 Stock Split,,")),
            "two_cells.csv": head + "\n".join(lines("{0:%Y-%m-%d},1,{1},5", "{0:%Y-%m-%d},Dividend,{1},", "{0:%Y-%m-%d},Split,2-for-1,")),
            "short.csv": "Datum;Eröffnung;Schlusskurs;Stücke\n" + "\n".join(
                lines("{0:%d.%m.%Y};1;{1};5", "{0:%d.%m.%Y};Dividende {1} QML", "{0:%d.%m.%Y};Aktiensplit 2:1")),
            "columns.csv": "Date,Close,Dividends,Stock Splits\n" + "\n".join(
                f"{d:%Y-%m-%d},{v},{paid.get(d, 0)},{2 if d == day_of_split else 0}" for d, v in raw.items()),
            "pence.csv": "Currency: GBX\n" + head + "\n".join(
                lines("{0:%Y-%m-%d},1,{1},5", "{0:%Y-%m-%d},{1} Dividend,,", "{0:%Y-%m-%d},2:1 Stock Split,,")),
            "pence_columns.csv": "Date,Close (GBp),Dividends,Stock Splits\n" + "\n".join(
                f"{d:%Y-%m-%d},{v},{paid.get(d, 0)},{2 if d == day_of_split else 0}" for d, v in raw.items()),
            "pounds_columns.csv": "Date,Close (GBp),Dividends (GBP),Stock Splits\n" + "\n".join(
                f"{d:%Y-%m-%d},{v},{paid.get(d, 0) / 100},{2 if d == day_of_split else 0}" for d, v in raw.items()),
        }  # fmt: skip
        for name, text in layouts.items():
            with self.subTest(name):
                self.file(name, text)
                got, answer = self.estimated(name, "--factors", "factors.csv")
                terms = next(iter(got.values()))
                self.assertAlmostEqual(terms["Mkt-RF"]["coefficient"], beta, 4)
                chosen = {d["what"]: d["chosen"] for d in answer["decisions"]}
                self.assertEqual((chosen["dividends"][:2], chosen["splits"][:2]), ("3 ", "1 "))
        adjusted = layouts["text.csv"].splitlines()
        whole = pd.Series(raw).where(raw.index < day_of_split, 2 * raw)
        self.file("adjusted.csv", "\n".join(
            [r if "D" in r or "S" in r else f"{r[:10]},1,{whole[pd.Timestamp(r[:10])]},5" for r in adjusted]))  # fmt: skip
        _, answer = self.estimated("adjusted.csv", "--factors", "factors.csv")
        self.assertIn("1 not used", [d["chosen"] for d in answer["decisions"] if d["what"] == "splits"])
        events = ul.read_series(self.folder / "text.csv")
        self.assertEqual(events.events["dividends"]["amount"].tolist(), [4.0, 5.0, 3.0])
        self.assertEqual(events.account.groupby("class")["lines"].sum()["event row"], 4)
        self.run_it("estimate", "text.csv", "--factors", "factors.csv", "--save", "text.toml")
        self.assertIn(f"{beta:.4f}", self.run_it("run", "text.toml").stdout)

    def test_dividends_are_in_the_unit_that_their_table_states(self):
        kelp, factors = self.prices["KELP"], self.factors
        days = pd.DatetimeIndex(["2016-05-12", "2017-05-12", "2018-05-11", "2019-05-13"])
        growth = (kelp + pd.Series(3.0, days).reindex(kelp.index).fillna(0)) / kelp.shift(1)
        monthly = growth.groupby(growth.index.to_period("M")).prod().iloc[1:] - 1
        alpha, beta = self.by_hand(
            (monthly - factors["RF"].loc[monthly.index]).to_numpy(), factors["Mkt-RF"].loc[monthly.index]
        )
        (100 * kelp).rename("Close (GBp)").to_csv(self.folder / "pence.csv")
        tables = {"amount (pence)": "300", "amount (GBP)": "3", "amount,Währung": "300,GBX", "amount": "3"}
        for heading, paid in tables.items():
            with self.subTest(heading):
                rows = "".join(f"pence,{d:%Y-%m-%d},{paid}\n" for d in days)
                self.file("paid.csv", f"asset,date,{heading}\n{rows}")
                words = "pence.csv", "--factors", "factors.csv", "--dividends", "paid.csv"
                terms = next(iter(self.estimated(*words)[0].values()))
                self.assertAlmostEqual(terms["constant"]["coefficient"], alpha, 5)
                self.assertAlmostEqual(terms["Mkt-RF"]["coefficient"], beta, 4)
                warned = "its dividends state no currency" in self.run_it("estimate", *words).stderr
                self.assertEqual(warned, heading == "amount")
        first, second = (f"pence,{day:%Y-%m-%d}" for day in days[:2])
        for text in (f"amount (EUR)\n{first},3\n", f"amount,Währung\n{first},300,GBX\n{second},3,EUR\n"):
            self.file("paid.csv", f"asset,date,{text}")
            self.assertIn("a dividend in EUR", self.run_it("estimate", *words, code=3).stderr)

    def test_order_of_rows_and_columns_does_not_matter(self):
        first, _ = self.estimated("wide.csv", "--factors", "factors.csv")
        mixed = self.prices.sample(frac=1, random_state=1)[["SALT", "KELP", "TIDE"]]
        mixed.to_csv(self.folder / "mixed.csv")
        second, _ = self.estimated("mixed.csv", "--factors", "factors.csv")
        for name in BETAS:
            self.assertEqual(first[name], second[name])

    def test_a_price_column_is_that_of_every_file(self):
        table = pd.read_csv(self.folder / "KELP.csv")
        table.assign(**{"Close": table["Adj Close"] ** 2}).to_csv(self.folder / "TIDE.csv", index=False)
        words = "KELP.csv", "TIDE.csv", "--factors", "decimal.csv"
        by_close, _ = self.estimated(*words, "--price-column", "close")
        excess = self.monthly(self.prices["KELP"] ** 2).to_numpy() - 0.0015
        expected = self.by_hand(excess, self.factors["Mkt-RF"][1:])
        self.assertAlmostEqual(by_close["TIDE"]["Mkt-RF"]["coefficient"], expected[1], 3)
        self.assertIn(
            "warning: Open, Close: price returns", self.run_it("look", "KELP.csv", "--returns", "M").stderr
        )

    def test_outputs_and_the_study_that_repeats_them(self):
        done = self.run_it("estimate", "wide.csv", "--factors", "factors.csv", "--dividends", "dividends.csv",
                           "--rolling", "P3Y", "--cost", "--premium", "5%", "--errors", "HC1", "--picture", "b.png",
                           "--csv", "b.csv", "--save", "again.toml", "--span", "2015-06", "2020-06")  # fmt: skip
        self.assertIn("again.toml repeats this", done.stdout)
        self.assertTrue((self.folder / "b.png").read_bytes().startswith(b"\x89PNG"))
        self.assertEqual(pd.read_csv(self.folder / "b.csv")["asset"].tolist(), list(BETAS))
        moving = pd.read_csv(self.folder / "b-rolling.csv").set_index("window_to")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ul.DataWarning)
            result = ul.run_study(self.folder / "again.toml", vault=self.folder / "v")
        self.assertAlmostEqual(moving["KELP"].iloc[-1], result.rolling.frame().loc["2020-06", "KELP"], 13)
        self.assertEqual((result.betas.errors, result.panel.assets.index[0]), ("hc1", pd.Period("2015-06")))
        beta = result.betas.coefficients.loc["KELP", "Mkt-RF"]
        rate = (1 + result.panel.risk_free.iloc[-1]) ** 12 - 1
        self.assertAlmostEqual(result.cost.value["KELP"], rate + 0.05 * beta, 12)
        self.assertIn(f"{100 * result.cost.value['KELP']:.2f}", done.stdout)
        close = self.monthly(self.prices["KELP"]).loc["2016-05"]
        paid = result.panel.assets.loc["2016-05", "KELP"]
        self.assertTrue(0.01 < paid - close < 0.03)  # 1.5 on a price of about 100
        self.assertIn("exists already", self.run_it("estimate", "wide.csv", "--factors", "factors.csv", "--save",
                                                      "again.toml", code=2).stderr)  # fmt: skip
        self.run_it("estimate", "wide.csv", "--factors", "factors.csv", "--asset", "TIDE", "--asset", "KELP",
                    "--factor", "SMB", "--save", "two.toml")  # fmt: skip
        self.assertEqual(ul.Study.load(self.folder / "two.toml").study.title, "TIDE on Mkt-RF, SMB")
        self.assertEqual(ul.Study.load(self.folder / "two.toml").asset, "TIDE")

    def test_delisted_assets_rates_of_their_own_file_and_many_assets(self):
        early = self.prices.copy()
        early.loc["2018-03-06":, "TIDE"] = np.nan
        early.to_csv(self.folder / "early.csv")
        last = early["TIDE"].last_valid_index()
        self.file(
            "paid.csv", f"Firm,Tag,Kasse\nTIDE,{last + pd.Timedelta(2, 'D'):%Y-%m-%d},{early['TIDE'][last] / 2}\n"
        )
        self.file("bill.csv", "month,bill\n" + "".join(f"{m},0.0015\n" for m in self.factors.index))
        base = ("estimate", "early.csv", "--factors", "decimal.csv")
        warned = self.run_it(*base)
        self.assertIn(f"TIDE: its prices end on {last:%Y-%m-%d}", warned.stderr)
        paid = self.run_it(*base, "--final-payments", "paid.csv", "--risk-free", "bill.csv", "--json",
                           "--event-column", "final_payments.asset=Firm", "--event-column", "final_payments.date=Tag",
                           "--event-column", "final_payments.amount=Kasse")  # fmt: skip
        closes = early["TIDE"].groupby(early.index.to_period("M")).last()
        closes.loc["2018-03"] = early["TIDE"][last] / 2
        returns = (closes.dropna().pct_change().dropna() - 0.0015).loc[:"2018-03"]
        market = self.factors["Mkt-RF"].reindex(returns.index)
        by_asset = {a["asset"]: a["terms"][1]["coefficient"] for a in json.loads(paid.stdout)["assets"]}
        self.assertAlmostEqual(by_asset["TIDE"], np.polyfit(market, returns, 1)[0], 10)
        by_size = self.run_it(
            "estimate", "early.csv", "--factors", "factors.csv", "--risk-free", "bill.csv"
        ).stderr
        self.assertIn(
            "bill: its file states no unit. By its size it is read as decimal: 1.80 % per year", by_size
        )
        self.run_it(*base, "--event-column", "splits.date=Tag", code=2)
        (self.folder / "b-rolling.csv").write_bytes((self.folder / "bill.csv").read_bytes())
        self.run_it(*base, "--rolling", "36", "--csv", "b.csv", "--risk-free", "b-rolling.csv", code=2)
        self.file("rate.csv", "month,bill\n" + "".join(f"{m},0.012\n" for m in self.factors.index))
        levels = ("estimate", "wide.csv", "--factors", "index.csv", "--risk-free", "rate.csv")
        either = self.run_it(*levels, code=2)
        self.assertIn("its file states no unit, and 0.144 per year can be decimals or percent", either.stderr)
        self.assertIn("Set --factor-units percent or decimal", either.stderr)
        for units, rate in (("percent", 0.00012), ("decimal", 0.012)):
            self.run_it(*levels, "--asset", "TIDE", "--factor-units", units, "--save", f"{units}.toml")
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", ul.DataWarning)
                found = ul.run_study(self.folder / f"{units}.toml", vault=self.folder / "v").betas.coefficients
            tide, index = (self.monthly(p) - rate for p in (self.prices["TIDE"], self.index))
            by_hand = self.by_hand(tide, index)
            np.testing.assert_allclose(found.loc["TIDE"], by_hand, rtol=0, atol=1e-6)
        self.file("set.toml", '[[series]]\naddress = "observatory:PRICES/M.QM.CPI"\n')
        unknown = self.run_it("pull", "set.toml", "--practice", "--gaps", "maybe", "--csv", "p.csv", code=2)
        self.assertIn("gaps: 'maybe' is not known; write leave, fill", unknown.stderr)
        self.run_it("pull", "set.toml", "--practice", "--gaps", "fill", code=2)
        names = list(BETAS)
        many = pd.concat([self.prices[names[k % len(names)]].rename(f"A{k:02d}") for k in range(41)], axis=1)
        many.to_csv(self.folder / "many.csv")
        asked = ("--factors", "decimal.csv", "--rolling", "24", "--cost", "--premium", "5%")
        shown = self.run_it("estimate", "many.csv", *asked).stdout
        self.assertEqual(shown.count("over the assets"), 3)
        self.assertNotIn("A07 ", shown)
        excess, market = self.monthly(self.prices) - 0.0015, self.factors["Mkt-RF"].iloc[1:]
        slopes = np.array([self.by_hand(excess[n], market)[1] for n in names])[np.arange(41) % len(names)]
        for word, share in (("minimum", 0), ("25 %", 0.25), ("median", 0.5), ("95 %", 0.95), ("maximum", 1)):
            line = next(one for one in shown.splitlines() if one.strip().startswith(word))
            self.assertAlmostEqual(float(line.split()[-1]), np.quantile(slopes, share), 4, word)

    def test_a_saved_study_keeps_the_query_of_its_source(self):
        with contextlib.closing(sqlite3.connect(self.folder / "p.sqlite")) as base:
            pd.read_csv(self.folder / "long.csv").to_sql("p", base, index=False)
        self.file("ultrum.toml", '[sources.db]\nkind = "database"\nurl = "sqlite:///p.sqlite"\n'
                                 '[sources.db.queries.closes]\nsql = "select * from p"\n')  # fmt: skip
        betas, _ = self.estimated("db:closes", "--factors", "factors.csv", "--save", "s.toml")
        (self.folder / "ultrum.toml").unlink()
        answer = json.loads(self.run_it("run", "s.toml", "--json").stdout)
        self.assertAlmostEqual(answer["coefficients"]["Mkt-RF"], betas["KELP"]["Mkt-RF"]["coefficient"])

    def test_new_writes_what_the_files_hold_and_it_runs(self):
        months = pd.period_range("2014-01", "2020-12", freq="M")
        cpi = pd.Series(100 * 1.002 ** np.arange(len(months)), months.strftime("%Y-%m-01"))
        cpi.round(6).rename("CPIALL").rename_axis("DATE").to_csv(self.folder / "cpi.csv")
        saturdays = pd.bdate_range("2015-01-01", "2020-12-31", freq="W-SAT")[::26]
        self.file("accounts.csv", "Symbol,Period End,Net Debt (m),Market Cap,Tax Rate\n" + "".join(
            f"{n},{day:%Y-%m-%d},{debt},1000,0.25\n" for day in saturdays
            for n, debt in (("KELP", 500), ("TIDE", 200), ("SALT", 100))))  # fmt: skip
        self.run_it("new", "a.toml", "KELP.csv", "--factors", "factors.csv")
        self.run_it("new", "b.toml", "long.csv", "--factors", "factors.csv", "--dividends", "dividends.csv",
                    "--inflation", "cpi.csv", "--accounts", "accounts.csv", "--asset", "KELP")  # fmt: skip
        self.run_it("new", "c.toml", "wide.csv", "--factors", "index.csv")
        self.run_it("new", "d.toml", "KELP.csv", "--factors", "factors.csv", "--read", "decimal=.")
        tables = tomllib.loads((self.folder / "d.toml").read_text())["sources"]["here"]["tables"]
        self.assertEqual(tomllib.loads((self.folder / "d.toml").read_text())["sources"]["here"]["url"], ".")
        self.assertEqual(tables, {name: {"decimal": "."} for name in ("KELP.csv", "factors.csv")})
        written = {n: tomllib.loads((self.folder / f"{n}.toml").read_text()) for n in "abc"}
        self.assertEqual(written["a"]["panel"]["price_column"], "Adj Close")
        self.assertEqual(written["b"]["panel"]["dividends"],
                         {"table": "here:dividends.csv", "asset": "Ticker", "date": "date", "amount": "Dividends"})  # fmt: skip
        self.assertEqual(written["b"]["panel"]["factor_units"], "percent")
        self.assertNotIn("cost_of_equity", written["c"])
        results = {}
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ul.DataWarning)
            for name in "abc":
                for text in self.alternatives((self.folder / f"{name}.toml").read_text()):
                    ul.Study.parse(text)
                results[name] = ul.run_study(self.folder / f"{name}.toml", vault=self.folder / "v")
        b = results["b"]
        self.assertAlmostEqual(b.real_cost["KELP"], (1 + b.cost.value["KELP"]) / 1.002**12 - 1, 6)
        plain = b.betas.coefficients["Mkt-RF"]
        assets = [plain["TIDE"] / (1 + 0.75 * 0.2), plain["SALT"] / (1 + 0.75 * 0.1)]
        self.assertAlmostEqual(b.peers.beta, np.median(assets) * (1 + 0.75 * 0.5), 9)
        self.assertIsNone(results["c"].cost)
        self.assertAlmostEqual(results["a"].cost.parts.loc[("KELP", "Mkt-RF"), "beta"],
                               self.estimated("KELP.csv", "--factors", "factors.csv")[0]["KELP"]["Mkt-RF"]["coefficient"])  # fmt: skip

    def alternatives(self, text):
        """The text with each commented key in place of the last one of its name before it."""
        lines = text.split("\n")
        for number, line in enumerate(lines):
            if line.startswith("# ") and " = " in line and '"..."' not in line:
                key = line[2:].split(" = ")[0]
                before = [k for k in range(number) if lines[k].startswith(f"{key} = ")][-1:]
                kept = [x for k, x in enumerate(lines) if k not in (*before, number)]
                yield "\n".join([*kept[: number - len(before)], line[2:], *kept[number - len(before) :]])

    def test_pages_and_pictures_as_they_are_asked_for(self):
        self.run_it("look", "KELP.csv#Close", "--compare-with", "index.csv#Close", "--page", "p.html", "--picture", "p.png",
                    "--title", "Two <closes>", "--label", "level", "--size", "1000x500")  # fmt: skip
        with Image.open(self.folder / "p.png") as picture:
            self.assertEqual(picture.size, (1000, 500))
        page = (self.folder / "p.html").read_text(encoding="utf-8")
        lines = json.loads(page.split('id="explorer-lines">')[1].split("</script>")[0])
        self.assertEqual([line["name"] for line in lines], ["Close, KELP", "Close, index"])
        np.testing.assert_array_equal(lines[1]["y"], self.index)
        self.assertIn("<h1>Two &lt;closes&gt;</h1>", page)
        self.assertIn('data-start="1"', page)
        self.assertNotRegex(page.split("<script>")[0], "https?://")  # it needs no network
        for words, expected in (
            (("--title", "x"), "needs --picture"), (("--picture", "q.png", "--size", "9x9"), "such as 1280x800"),
            (("--page", "KELP.csv"), "would be overwritten"), (("--page", "q.html", "--returns", "M"), "cannot be used"),
        ):  # fmt: skip
            done = command("look", "KELP.csv#Close", *words, cwd=self.folder)
            self.assertEqual(done.returncode, 2)
            self.assertIn(expected, done.stderr)

    def test_minute_quotes_of_a_source_are_read_as_set_and_read_back(self):
        table = "exchange:quotes_2024-11.csv"
        self.assertIn("--read timezone=UTC", self.run_it("pull", table, "--practice", code=3).stderr)
        pull = ("pull", "--practice", "--read", "timezone=UTC", "--csv")
        status = self.run_it(*pull, "minutes.csv", table).stdout
        self.assertNotRegex(status, "(?s)close *\n *close")
        lines = (DATA / "quotes_2024-11.csv").read_text().splitlines()
        stamps = [f"{t[:4]}-{t[4:6]}-{t[6:8]}T{t[9:11]}:{t[11:13]}" for t in lines]
        closes = [float(line.split(";")[4]) for line in lines]
        back = ul.read_series(self.folder / "minutes.csv").series["close"]
        self.assertEqual(back.values.tolist(), closes)
        self.assertEqual(list(back.to_pandas().index.strftime("%Y-%m-%dT%H:%M")), stamps)
        self.run_it(*pull, "hours.csv", f"{table}#close", "--frequency", "H")
        last = {stamp[:13]: close for stamp, close in zip(stamps, closes, strict=True)}
        self.assertEqual(
            ul.read_series(self.folder / "hours.csv").series["close"].values.tolist(), [*last.values()]
        )
        kept = self.run_it("pull", "--practice", "--read", "timezone=UTC", "--save", "set.toml", table, code=2)
        self.assertIn("give --read with each pull of the set", kept.stderr)
        self.run_it("pull", "--practice", "--save", "set.toml", table, code=3)
        self.run_it(*pull, "again.csv", "set.toml")
        self.assertEqual((self.folder / "again.csv").read_text(), (self.folder / "minutes.csv").read_text())
        for other in ("observatory:PRICES/M.QM.CPI", "harbour:freight"):
            self.assertIn(f"{other} is neither", self.run_it(*pull, "x.csv", other, code=2).stderr)

    def test_check_finds_what_the_files_do_not_hold(self):
        self.run_it("new", "s.toml", "long.csv", "--factors", "factors.csv", "--dividends", "dividends.csv")
        self.assertEqual(self.run_it("run", "s.toml", "--check").stdout, "s.toml: valid.\n")
        self.assertFalse((self.folder / "s-results").exists())
        text = (self.folder / "s.toml").read_text() + '\n[series.cpi]\naddress = "here:cpi.csv#CPI"\n'
        for old, new in (('company = "KELP"', 'company = "KLEP"'), ('["Mkt-RF"]', '["Mkt-FR"]'), ('#RF"', '#RV"'),
                         ('amount = "Dividends"', 'amount = "Dividend"')):  # fmt: skip
            self.assertIn(old, text)
            text = text.replace(old, new, 1)
        lines = self.file("t.toml", text).read_text().split("\n")
        said = self.run_it("run", "t.toml", "--check", code=2).stderr
        for words, key in (("no asset 'KLEP'; did you mean 'KELP'?", "company ="), ("has no factor 'Mkt-FR'", "factors = [\"M"),
                           ("no column 'RV'", "risk_free ="), ("no file", "address = "),
                           ("no column 'Dividend'; did you mean 'Dividends'?", "dividends =")):  # fmt: skip
            number = next(k for k, line in enumerate(lines, 1) if line.startswith(key))
            self.assertRegex(said, rf"line {number}: .*{re.escape(words)}")
        self.assertIn("5 faults", said)


class Columns(Scratch):
    def read(self, text, **options):
        return ul.read_series(self.file("x.csv", text), **options)

    def rows(self, *columns):
        days = pd.bdate_range("2024-01-01", periods=len(columns[0]))
        return "".join(f"{d:%Y-%m-%d}," + ",".join(map(str, r)) + "\n" for d, r in zip(days, zip(*columns, strict=True), strict=True))  # fmt: skip

    def test_what_can_be_two_things_is_refused(self):
        daily = [0.2, -0.15, 0.21, -0.18, 0.2]
        with self.refused(TableError, "percent or decimals"):
            price_table(self.read("d,A\n" + self.rows(daily)))
        with self.refused(TableError, "the market could be any of 'a', 'b'"):
            factor_table(self.read("d,a,b\n" + self.rows(daily, daily), units="percent"))
        with self.refused(TableError, "can each be the market"):
            factor_table(self.read("d,Mkt-RF,Market\n" + self.rows(daily, daily), units="percent"))
        with self.refused(TableError, "price could be any of"):
            price_table(self.read("Ticker,d,x,y\n" + "".join(f"{n},2024-01-{k + 1:02d},{k + 1},{k + 2}\n" for k in range(5) for n in "AB")))  # fmt: skip
        two = "price could be any of|Name the price column"
        for heading in ("Close,Price", "index,KELP", "Value,A"):
            with self.assertRaisesRegex(TableError, two):
                price_table(self.read(f"d,{heading}\n" + self.rows([100, 101, 99], [50, 51, 52])))
        for odd, market in ((0, 7), (-1, 120)):
            long = [5 + k / 9 for k in range(20)]
            with self.refused(TableError, "'B' has 1 of 20 values at or below zero"):
                price_table(self.read("d,A,B\n" + self.rows(long, [*long[:-1], odd])))
            with self.refused(TableError, "looks like prices or levels"):
                levels = [market * 10 + k for k in range(20)]
                factor_table(self.read("d,Market,RF\n" + self.rows(levels, [0.01] * 20)))
        with self.refused(TableError, "units of 'Mkt-RF (%)' are stated"):
            factor_table(self.read("d,Mkt-RF (%),SMB\n" + self.rows([1.2, -2, 1], [1, 2, -2])))
        events = pd.DataFrame({"date": ["2024-01-02"], "gross": [1.0], "net": [0.8]})
        with self.refused(TableError, "2 columns (gross, net) for the amount"):
            event_columns(events, "d.csv", ["asset", "date", "amount"], {}, ["A"])
        with self.refused(TableError, "no column of assets"):
            event_columns(events, "d.csv", ["asset", "date", "amount"], {"amount": "net"}, ["A", "B"])

    def test_a_table_of_events_is_not_one_series(self):
        mixed = self.read("Ticker,Date,Dividend\n" + "".join(
            f"{n},2024-{m:02d}-1{k},1.5\n" for m in range(1, 8) for k, n in enumerate("AB")))  # fmt: skip
        self.assertEqual(sorted(mixed.series), ["A.Dividend", "B.Dividend"])


if __name__ == "__main__":
    unittest.main()
