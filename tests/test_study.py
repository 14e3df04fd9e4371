"""Study files: every fault at once, and bad data refused before a number comes out."""

import dataclasses
import io
import re
import warnings
import zipfile
from unittest import mock

import httpx
import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import ROOT, OnPractice, Scratch
from ultrum.core.pricing import hierarchical_costs, implied_costs
from ultrum.errors import EstimationError, SourceError, StudyError, TableError, UltrumError, UnitError
from ultrum.practice import demo_study, statistics_service
from ultrum.report import html_report
from ultrum.study.asset_returns_and_sorts import daily_returns, read_prices

TEXT = demo_study().read_text()
STUDIES = ROOT / "ultrum" / "practice" / "studies"
TABLES = ("prices", "companies", "dividends", "splits", "final_payments")


class Faults(Scratch):
    def test_five_faults_are_told_at_once_with_their_lines(self):
        text = TEXT.replace('frequency = "M"', 'frequency = "monthly"')
        text = text.replace("dividends =", "dividens =")
        text = text.replace('errors = "hac"', 'errors = "newey"')
        text = text.replace('model = "one factor"', 'model = "one facter"')
        text = text.replace("exchange:splits.csv", "exchnage:splits.csv")
        with self.assertRaises(StudyError) as caught:
            ul.Study.parse(text, "s.toml")
        said, lines = str(caught.exception), text.splitlines()
        self.assertIn("5 faults", said)
        for words, line in {
            "'monthly' is not a frequency": 'frequency = "monthly"',
            "no key 'dividens'; did you mean 'dividends'?": "dividens =",
            "'newey'": 'errors = "newey"',
            "no model 'one facter'; did you mean 'one factor'?": 'model = "one facter"',
            "no source 'exchnage'; did you mean 'exchange'?": "exchnage:splits",
        }.items():
            number = next(i for i, text in enumerate(lines, 1) if line in text)
            found = next(row for row in said.splitlines() if words in row)
            self.assertIn(f"line {number}:", found)

    def test_other_faults(self):
        for change, words in {
            ("[panel]\n", "[panels]\n"): ["section [panel] is missing", "no key 'panels'; did you mean 'panel'?"],
            ("[report]", "[report"): ["not TOML"],
            ('title = "Allowed return, Brightwater Tidal"', ""): ["[study] lacks 'title'"],
            ('risk_free = "college:factors_monthly.zip#bill"\n\n', 'risk_free = "/etc/passwd"\n\n'):
                ["not an address"],
            ('assets = "exchange:prices.csv"', 'assets = "exchange:prices.csv"\nconditions = ["wage"]'):
                ["no series 'wage'", "known_by"],
            ('premium = { market =', 'premium = { markt ='): ["factor 'markt'; did you mean 'market'?"],
            ('span = ["2004-01"', 'span = ["January"'): ["'January' is not a period"],
            ("[cost_of_equity]", '[[models]]\nname = "one factor"\nfactors = ["size"]\n\n[cost_of_equity]'):
                ["2 models are named 'one factor'"],
            ('export = ["csv"]', 'export = ["csv"]\nlevel = 95'): ["level", "less than 1"],
        }.items():  # fmt: skip
            with self.subTest(change), self.refused(StudyError, *words):
                ul.Study.parse(TEXT.replace(*change))
        twice = f"{TEXT}\n[implied_cost]\nforecasts = 'exchange:forecasts.csv'\nmodel = 'two-stage'\nlong_run_growth = 0.02\n".replace(
            '[cost_of_equity]', '[[models]]\nname = "two"\nfactors = ["market", "size"]\n\n[cost_of_equity]')  # fmt: skip
        premia = 'premium = { market = "implied", size = "implied" }'
        with self.refused(StudyError, "market, size are 'implied'"):
            ul.Study.parse(re.sub(r"premium = \{.*\}", premia, twice))
        self.assertEqual(ul.Study.parse(re.sub(r"premium = \{.*\}", 'premium = { market = "implied" }', twice)).
                         cost_of_equity.premium, {"market": "implied"})  # fmt: skip
        with self.refused(StudyError, "cannot be read"):
            ul.Study.load(self.folder / "absent.toml")


class Runs(OnPractice):
    def run_demo(self, text=TEXT, college=None, exchange=None):
        places = dict(self.service.places)
        for name, folder in (("college", college), ("exchange", exchange)):
            places[name] = str(folder) if folder else places[name]
        study = ul.Study.parse(text).with_sources_at(places)
        return ul.run_study(study, vault=self.folder / "vault")

    def test_windows_of_a_study_are_five_years_unless_it_sets_them(self):
        figures = 'figures = ["betas", "line of fit", "components"]'
        self.assertIn(figures, TEXT)
        result = self.run_demo(TEXT.replace(figures, 'figures = ["rolling beta"]'))
        self.assertIn("window 60,", result.rolling.basis)
        first = result.rolling.frame("coefficients", "market")["BRTW"].dropna()
        window = result.panel.sample("2004-02", "2009-01")
        own = ul.factor_betas(window, ["market"]).coefficients.loc["BRTW", "market"]
        self.assertAlmostEqual(first.loc["2009-01"], own, 10)

    def test_the_shipped_study(self):
        result = self.run_demo()
        self.assertEqual(len(result.betas.assets), 24)
        subjects = {w.subject: w.text for w in result.warnings}
        self.assertIn("Chow", subjects["MRWG"])
        self.assertIn("no trade", subjects["NTSH"])
        self.assertIn("QSR", subjects["SNST"])
        self.assertIn("final payment", subjects["ORSL"])
        self.assertGreater(result.checks.loc["NTSH", "zero_volume_share"], 0.10)
        true = ul.practice.truth().one_factor
        self.assertLess(abs(result.betas.coefficients.loc["SNST", "market"] - true["SNST"]),
                        2 * result.betas.standard_errors.loc["SNST", "market"])  # fmt: skip
        direct = ul.factor_betas(ul.practice.panel(), ["market"]).coefficients
        home = [a for a in direct.index if a != "NTSH"]  # its untraded days differ
        np.testing.assert_allclose(result.betas.coefficients.loc[home, "market"], direct.loc[home, "market"],
                                   atol=2e-3)  # prices and factors are rounded in the files # fmt: skip
        real = (1 + result.cost.value["BRTW"]) / (1 + result.inflation) - 1
        self.assertAlmostEqual(result.real_cost["BRTW"], real, 15)

    def test_several_models_and_a_given_premium(self):
        text = TEXT.replace(
            "[cost_of_equity]",
            '[[models]]\nname = "four factors"\nfactors = ["market", '
            '"size", "value", "momentum"]\nerrors = "hc3"\n\n[cost_of_equity]',
        )
        text = text.replace('premium = { market = "history" }', "premium = { market = 0.05 }")
        result = self.run_demo(text)
        self.assertEqual(result.models["four factors"].coefficients.shape, (24, 5))
        self.assertEqual(result.cost.parts.loc[("BRTW", "market"), "premium"], 0.05)
        self.assertEqual(
            set(result.panel.missing_log.query("series == 'momentum'")["period"].astype(str)),
            {"2004-01", "2004-02", "2004-03"},
        )

    def college_file(self, edit):
        with zipfile.ZipFile(statistics_service.DATA / "college" / "factors_monthly.zip") as archive:
            text = edit(archive.read("factors_monthly.txt").decode())
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("factors_monthly.txt", text)
        self.file("factors_monthly.zip", packed.getvalue())
        return self.folder

    def test_percent_without_a_word_is_told_by_its_size_and_reported(self):
        folder = self.college_file(lambda t: t.replace("in percent per month", "per month"))
        result, stated = self.run_demo(college=folder), self.run_demo()
        self.assertIn(("units", "percent"), [(d.what, d.chosen) for d in result.decisions])
        self.assertEqual(result.panel.risk_free.tolist(), stated.panel.risk_free.tolist())
        self.assertEqual(result.cost.value["BRTW"], stated.cost.value["BRTW"])
        wrong = TEXT.replace('risk_free = "college', 'factor_units = "decimal"\nrisk_free = "college', 1)
        with self.refused(TableError, "273 % per year"):
            self.run_demo(wrong, college=folder)

    def test_folders_are_meant_from_the_study_file(self):
        self.college_file(lambda t: t)
        for name in ("companies", "dividends", "splits", "final_payments"):
            self.file(f"{name}.csv", (statistics_service.DATA / f"{name}.csv").read_bytes())
        text = TEXT.replace(f"{'http://127.0.0.1:8765'}/college/", ".")
        study = ul.Study.load(self.file("own.toml", text))
        self.assertEqual(study.sources["college"].url, str(self.folder))
        places = {k: v for k, v in self.service.places.items() if k != "college"}
        result = ul.run_study(study.with_sources_at(places), vault=self.folder / "vault")
        self.assertEqual(result.panel.factors.shape, (252, 1))

    def test_another_rate_for_the_cost_is_refused_unless_the_premium_is_over_it(self):
        text = TEXT.replace('risk_free = "college:factors_monthly.zip#bill"\ninflation',
                            'risk_free = "observatory:RATES/M.QM.GOV_1M"\ninflation')  # fmt: skip
        with self.refused(UnitError, "'bill'", "M_QM_GOV_1M"):
            self.run_demo(text)
        said = self.run_demo(text.replace('risk_free = "observatory:RATES/M.QM.GOV_1M"', "risk_free = 0.04"))
        self.assertEqual(said.cost.risk_free, 0.04)

    def test_a_factor_file_without_header(self):
        folder = self.college_file(lambda t: t.replace("month;bill;market;size;value;momentum\n", ""))
        with self.refused(TableError, "no header", "01/2004", "columns="):
            self.run_demo(college=folder)

    def exchange_files(self, names=TABLES, **edits):
        """The exchange's files in a folder, tables of them edited."""
        folder = self.folder / "exchange"
        folder.mkdir(exist_ok=True)
        for name in names:
            table = pd.read_csv(io.BytesIO(httpx.get(f"{self.service.places['exchange']}/{name}.csv").content))
            edits.get(name, lambda t: t)(table).to_csv(folder / f"{name}.csv", index=False)
        return folder

    def test_what_a_foreign_company_paid_is_converted_whatever_the_table_tells(self):
        plain = self.run_demo()
        bare = self.exchange_files(dividends=lambda t: t.drop(columns="currency"))
        untold = self.run_demo(exchange=bare)
        self.assertEqual(untold.returns.values["SNST"].tolist(), plain.returns.values["SNST"].tolist())

        def pays(table):
            return pd.concat([table, pd.DataFrame({"asset": ["SNST"], "date": ["2012-05-16"], "amount": [50.0],
                                                   "currency": ["QSR"]})])  # fmt: skip

        def until(table):
            return table[(table["asset"] != "SNST") | (table["date"] < "2012-05-16")]

        with self.refused(UltrumError, "SNST", "2012-05-16", "prices go on"):
            self.run_demo(exchange=self.exchange_files(final_payments=pays))
        paid = self.run_demo(exchange=self.exchange_files(final_payments=pays, prices=until))
        with ul.Desk(self.folder / "v", sources=ul.practice.sources_at(self.service.places)) as desk:
            quote = ul.ExchangeRates([desk.fetch("observatory:FX/B.QSR.QML")])
            close = desk.table("exchange:prices.csv").fields["close"]["SNST"].values
            study = ul.Study.parse(TEXT)
            daily = daily_returns(study, desk, read_prices(study, desk))["SNST"].to_pandas()
        grown = (1.0 + daily).groupby(daily.index.to_period("M")).prod() - 1.0
        monthly = plain.returns["SNST"].to_pandas().dropna()
        np.testing.assert_allclose(grown[monthly.index], monthly, atol=1e-9)  # of the sensitivity and forecasts
        before = close.loc[:"2012-04-30"].dropna()
        start = before.iloc[-1] * quote.rate("QSR", "QML", on="2012-04-30")
        end = 50 * quote.rate("QSR", "QML", on="2012-05-16")
        self.assertAlmostEqual(paid.returns.values.loc["2012-05", "SNST"], end / start - 1, 9)
        torn = self.exchange_files(
            dividends=lambda t: t.assign(currency=t["currency"].where(t["asset"] != "SNST", "QTV"))
        )
        with self.refused(StudyError, "SNST", "QTV", "QSR or QML"):
            self.run_demo(exchange=torn)

    def test_inflation_is_a_years_and_of_the_panels_end(self):
        text = TEXT.replace('"latest"]', '"2015-06"]').replace('"2024-12"]', '"2015-06"]')
        result = self.run_demo(text)
        known = result.series["inflation"].values.dropna()
        self.assertEqual((result.inflation, result.inflation_period), (known["2015-06"], "2015-06"))
        self.assertNotEqual(result.inflation, known.iloc[-1])
        with self.refused(StudyError, "P1M", "annualised = true"):
            self.run_demo(TEXT.replace('over = "P1Y"', 'over = "P1M"'))
        yearly = self.run_demo(TEXT.replace('over = "P1Y"', 'over = "P1M", annualised = true'))
        self.assertGreater(yearly.real_cost["BRTW"], 0)

    def test_nothing_of_after_the_panels_end_comes_in(self):
        """A study that ends in 2015 gives what the files of 2015 would have given."""
        whole = ul.Study.load(STUDIES / "allowed_return.toml").with_sources_at(self.service.places)
        span = whole.study.model_copy(update={"span": ("2005-01", "2015-06")})
        self.enterContext(mock.patch.object(hierarchical_costs, "_BURNED", 1))
        cost = whole.cost_of_equity.model_copy(update={"draws": 99})
        quick = {
            "cost_of_equity": cost,
            "tests": whole.tests.model_copy(update={"breaks": "chow", "joint_alpha": []}),
            "two_pass": None,
        }
        early = whole.model_copy(update={"study": span, **quick})
        cut = {
            "accounts": lambda t: t[t["date"] <= "2015-06-30"],
            "indices": lambda t: t[t["date"] <= "2015-06-30"],
            "prices": lambda t: t[t["date"] <= "2015-06-30"],
            "forecasts": lambda t: t.assign(date="2014-12-31", dividend_1=0.9 * t["dividend_1"]),
            "past_forecasts": lambda t: t[t["released"] <= "2015-06-30"],
        }
        names = (
            "prices",
            "companies",
            "dividends",
            "splits",
            "final_payments",
            "accounts",
            "indices",
            "forecasts",
            "past_forecasts",
        )
        old = str(self.exchange_files(names, **cut))
        alone = early.model_copy(update={"cost_of_equity": None, "sensitivity": None, "beta_forecasts": None,
                                         "model_comparison": None, "models": whole.models[:1], "report": ul.Study.parse(TEXT).report})  # fmt: skip
        both = {"forecasts": lambda t: pd.concat([cut["forecasts"](t), t])}
        early = early.model_copy(update={"implied_cost": None})
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ul.DataWarning)
            now = ul.run_study(early, vault=self.folder / "now")
            then = ul.run_study(early.with_sources_at({"exchange": old}), vault=self.folder / "then")
            implied = []
            for number, edits in enumerate((cut, both)):
                place = str(self.exchange_files(names, **edits))
                made = ul.run_study(alone.with_sources_at({"exchange": place}), vault=self.folder / f"v{number}")
                implied.append(made.comparisons.implied)
        pd.testing.assert_frame_equal(implied[0].table, implied[1].table)
        self.assertIn("forecasts of 2014-12-31", implied[1].basis)
        no_cost = implied[0].table.assign(cost=np.nan, note="two roots")
        with mock.patch.object(implied_costs, "implied_cost_of_equity",
                               return_value=dataclasses.replace(implied[0], table=no_cost)):  # fmt: skip
            made = ul.run_study(
                alone.with_sources_at({"exchange": place}), vault=self.folder / "none", keep=False
            )
        self.assertEqual(made.comparisons.left_out, {"implied": "two roots"})
        self.assertIn(f"Without a cost of {made.company}: implied (two roots).", html_report.page(made, {}, None))
        pd.testing.assert_frame_equal(now.comparisons.betas.table, then.comparisons.betas.table, rtol=1e-9)
        pd.testing.assert_series_equal(
            now.comparisons.hierarchical.value, then.comparisons.hierarchical.value, rtol=1e-9
        )
        self.assertEqual(
            now.comparisons.left_out, {"economy": "output surprise: not traded, and no premium is stated"}
        )
        self.assertAlmostEqual(now.peers.beta, then.peers.beta, 12)
        self.assertIn("accounts of 2015-01-01", now.peers.basis)
        pd.testing.assert_frame_equal(now.sensitivity.table, then.sensitivity.table, rtol=1e-9)
        pd.testing.assert_frame_equal(now.checks, then.checks, rtol=1e-9)
        self.assertAlmostEqual(now.cost.value["BRTW"], then.cost.value["BRTW"], 12)
        panel = ul.practice.panel().sample("2005-01", "2015-06")  # the factors' files go on to 2024
        market = panel.factor_table["market"]
        mean = ul.premium(market, mean="blume", horizon=5, risk_free=panel.rate)
        own = now.cost.parts.loc[("BRTW", "market")]
        self.assertAlmostEqual(own["premium"], mean.value, 4)

    def test_stale_months_are_told_apart_from_gaps_beside_portfolios_too(self):
        text = TEXT.replace("[report]", '[portfolios.TIDES]\nindustry = "tide and power"\n\n[report]')
        for said in (TEXT, text):
            panel = self.run_demo(said).panel
            self.assertEqual(panel.coverage.loc["NTSH", "stale"], 4)
            own = panel.missing_log[panel.missing_log["series"] == "NTSH"]["cause"].value_counts()
            self.assertEqual((own["stale price"], own.get("gap", 0)), (4, 0))

    def test_adjusted_betas_are_priced_and_their_regressions_shown(self):
        text = TEXT.replace('errors = "hac"', 'errors = "hac"\nadjust = "vasicek"')
        text = text.replace("[report]", '[portfolios.TIDES]\nindustry = "tide and power"\n\n[report]')
        adjusted, plain = self.run_demo(text), self.run_demo()
        again = ul.shrink_betas(plain.betas)
        for asset in plain.betas.assets:  # a portfolio of them does not count once more
            np.testing.assert_allclose(adjusted.betas.coefficients.loc[asset], again.coefficients.loc[asset])
        self.assertEqual(
            adjusted.cost.parts.loc[("BRTW", "market"), "beta"], adjusted.betas.coefficients.loc["BRTW", "market"]
        )
        own = adjusted.betas.fit("BRTW")
        self.assertEqual(own.coefficients.tolist(), plain.betas.fit("BRTW").coefficients.tolist())
        self.assertLess(abs(own.residuals.mean()), 1e-15)
        with self.refused(StudyError, "draws", "adjusted"):
            ul.Study.parse(text.replace('inflation = "inflation"', 'inflation = "inflation"\ndraws = 99'))
        with self.refused(EstimationError, "draws", "shrunk"):
            cost = ul.cost_of_equity(again, premia={"market": 0.05}, risk_free=0.03, draws=99)
            cost.interval(method="bootstrap")

    def test_sources_that_fail(self):
        with self.refused(SourceError, "cannot be read"):
            self.run_demo(college=self.folder / "nowhere")
        with self.refused(SourceError, "no code GPI", "CPI"):
            self.run_demo(TEXT.replace("M.QM.CPI", "M.QM.GPI"))
        with self.refused(StudyError, "'TIDE'", "BRTW"):
            self.run_demo(TEXT.replace('company = "BRTW"', 'company = "TIDE"'))
        with self.refused(StudyError, "SNST", "exchange_rates"):
            self.run_demo(TEXT.replace('"observatory:FX/B.QSR.QML"', ""))
        with self.refused(StudyError, "moon", "market"):
            self.run_demo(TEXT.replace('factors = ["market"]', 'factors = ["moon"]'))
        self.assertTrue((self.folder / "vault").is_dir())

    def test_a_run_is_named_by_its_inputs_alone(self):
        first, again = self.run_demo(), self.run_demo()
        self.assertEqual(first.run, again.run)
        other = self.run_demo(TEXT.replace('errors = "hac"', 'errors = "hc1"'))
        self.assertNotEqual(first.run, other.run)
        moved = dataclasses.replace(first.downloads[0], retrieved="later")
        self.assertEqual(pd.Series([moved.checksum]).tolist(), [first.downloads[0].checksum])
