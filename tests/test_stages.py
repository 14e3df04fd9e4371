"""A run that may use stored results equals a fresh one to the last bit, whatever has changed."""

import datetime as dt
import itertools
import os
import unittest
import warnings

import numpy as np
import pandas as pd

import ultrum as ul
from tests.support import Scratch
from ultrum.core.panel.release_dates import releases
from ultrum.errors import UltrumError
from ultrum.study.bundles_and_changes import changes
from ultrum.study.provenance import run_facts
from ultrum.study.run import run
from ultrum.study.schema import Study
from ultrum.study.stage_values import NotStorableError, from_bytes, to_bytes
from ultrum.vault.journal_and_payload_files import Payloads

ASSETS = ("AURL", "BRTW", "CSHW", "DNMK", "EBMK")
PEERS = {"accounts": "here:accounts.csv", "companies": ["BRTW", "CSHW"]}
BASE = {
    "study": {"title": "t", "frequency": "M", "currency": "QML", "span": ["2012-02", "2016-12"],
              "known_by": {"growth": {"releases": "here:releases.csv"}, "both": "P1M", "trade": "P1M"}},
    "sources": {"here": {"kind": "table", "url": ".", "tables": {
        "prices.csv": {"currency": "QML"}, **{f"{n}.csv": {"unit": u} for n, u in
                                              (("fx", "SRN/QML"), ("fx_2", "SRN/QML"), ("orn", "ORN/QML"))}}}},
    "series": {"growth": {"address": "here:prices_index.csv#cpi", "steps": [{"growth": {"over": "P1Y"}}]},
               "trade": {"address": "here:prices_index.csv#trade", "steps": [{"growth": {"over": "P1M"}}]},
               "both": {"composite": {"parts": ["trade", "other"], "window": "expanding"}},
               "other": {"address": "here:prices_index.csv#other", "steps": [{"growth": {"over": "P1M"}}]},
               "sorted": {"sort": {"table": "here:stocks.csv", "by": {"bm": 2, "size": 2}, "formula": "bm high - bm low",
                                   "returns": "r", "weights": "size", "hold_for": 3}},
               "fx": {"currency_factor": "SRN", "rates": ["here:fx.csv#rate"]}},
    "sets": {"pair": {"series": {"left": "here:prices_index.csv#trade"}, "steps": [{"growth": {"over": "P1M"}}]}},
    "panel": {"assets": "here:prices.csv", "price_column": "price", "companies": "here:companies.csv", "dividends": "here:dividends.csv",
              "splits": "here:splits.csv", "final_payments": "here:payments.csv", "factors": "here:factors.csv",
              "factor_units": "percent", "risk_free": "here:factors.csv#bill", "conditions": ["growth"]},
    "portfolios": {"two": {"assets": ["AURL", "BRTW"]}},
    "models": [{"name": "one", "factors": ["market"]}, {"name": "two", "factors": ["market", "size", "both"]},
               {"name": "small", "factors": ["size"]}],
    "tests": {"joint_alpha": ["exact"], "rolling_window": 24},
    "two_pass": {"factors": ["market"], "draws": 49},
    "cost_of_equity": {"company": "AURL", "model": "one", "peers": PEERS, "inflation": "growth"},
    "sensitivity": {"markets": ["here:indices.csv#all"], "risk_free": "here:factors.csv#bill", "windows": ["P2Y"],
                    "frequencies": ["M"], "adjustments": ["none"], "estimators": ["ols"]},
}  # fmt: skip
EVENTS = {"table": "here:dividends.csv"}
PREMIUM = {"market": {"mean": "arithmetic"}}
GIVEN = {"market": {"value": 0.05, "error": 0.01}}
RELEASES = {"releases": "here:releases.csv"}
ABROAD = {"code": "SRN", "inflation": [0.02, 0.03]}
SORT = BASE["series"]["sorted"]["sort"]
IMPLIED = {"forecasts": "here:forecasts.csv", "long_run_growth": 0.02}
RESIDUAL = {"forecasts": "here:forecasts.csv", "model": "residual income"}
FORECASTS = {"market": "here:indices.csv#all", "risk_free": "here:factors.csv#bill", "windows": ["P1Y"], "frequencies": ["W"],
             "adjustments": ["none", "vasicek"], "estimators": ["ols"], "every": "P3M", "horizon": "P1Y"}  # fmt: skip
DRAWN = {"accounts": "here:accounts.csv"}
ADDED = {"size": {"value": 0.01, "reason": "small"}}
OTHER = [  # (key, another value), or (key, value before, value after)
    ("study.frequency", "Q"), ("study.currency", ""), ("study.span", ["2012-06", "2016-06"]),
    ("study.known_by", {"growth": "P2M", "both": "P1M", "trade": "P1M"}), ("study.known_by.growth.releases", "here:late.csv"),
    ("study.known_by.growth.use", "vintages"), ("study.known_by.growth.where", {"kind": "first"}),
    ("study.known_by.growth.period", "other period"), ("study.known_by.growth.date", "other"),
    ("study.known_by.growth.value", RELEASES | {"use": "vintages"}, RELEASES | {"use": "vintages", "value": "worth"}),
    ("sources.here.tables", BASE["sources"]["here"]["tables"] | {"factors.csv": {"missing": ["0.5"]}}),
    ("series.growth.address", "here:prices_index.csv#other"), ("series.growth.steps", [{"growth": {"over": "P1Y", "kind": "log"}}]),
    *((f"series.sorted.sort.{key}", value) for key, value in (
        ("table", "here:stocks_2.csv"), ("by", {"bm": 3, "size": 2}), ("formula", "bm high size 1 - bm low size 1"), ("returns", "q"),
        ("weights", ""), ("formation", "Q"), ("hold_for", 2), ("order", "dependent"), ("cap", 0.3), ("min_assets", 4),
        ("rebalance", True), ("trading_cost", 0.01), ("members", "here:members.csv"), ("delistings", "here:gone.csv"),
        ("breakpoints_from", "main"))),
    ("series.sorted.sort.prices", SORT | {"prices": "size", "min_price": 0.5}, SORT | {"prices": "main", "min_price": 0.5}),
    ("series.sorted.sort.min_price", SORT | {"prices": "size", "min_price": 0.5}, SORT | {"prices": "size", "min_price": 0.6}),
    ("series.growth.title", "Inflation"), ("series.both.composite.parts", ["other", "trade", "left"]),
    ("series.both.composite.orient", {"trade": -1}), ("series.both.composite.weights", {"trade": 2.0, "other": 1.0}),
    ("series.both.composite.at_least", 1), ("series.both.composite.window", "P2Y"),
    ("series.fx.currency_factor", {"currency_factor": "SRN", "rates": ["here:fx.csv#rate"]},
     {"currency_factor": "ORN", "rates": ["here:orn.csv#rate"]}), ("series.fx.rates", ["here:fx_2.csv#rate"]),
    ("sets.pair.series", {"left": "here:prices_index.csv#other"}), ("sets.pair.steps", [{"growth": {"over": "P3M"}}]),
    ("portfolios.two.assets", ["AURL", "CSHW"]), ("portfolios.two.weights", {"AURL": 0.3, "BRTW": 0.7}),
    ("portfolios.two.industry", {"assets": ["AURL", "BRTW"]}, {"industry": "tides"}),
    ("portfolios.two.rebalance", {"assets": ["AURL", "BRTW"]}, {"assets": ["AURL", "BRTW"], "rebalance": "never"}),
    ("panel.assets", "here:prices_2.csv"), ("panel.price_column", "close"), ("panel.volume_column", "shares"),
    ("panel.companies", "here:companies_2.csv"), ("panel.only", ["AURL", "BRTW", "CSHW", "DNMK"]),
    ("panel.dividends", ""), ("panel.splits", ""), ("panel.final_payments", ""),
    ("panel.dividends.table", EVENTS, {"table": "here:dividends_2.csv"}),
    ("panel.dividends.asset", EVENTS, EVENTS | {"asset": "firm"}),
    ("panel.dividends.date", EVENTS, EVENTS | {"date": "paid"}),
    ("panel.dividends.amount", EVENTS, EVENTS | {"amount": "gross"}),
    ("panel.splits.ratio", {"table": "here:splits.csv"}, {"table": "here:splits.csv", "ratio": "times"}),
    ("panel.exchange_rates", ["here:fx.csv#rate"]), ("panel.factors", "here:factors_2.csv"),
    ("panel.factor_units", "decimal"), ("panel.total_return_factors", ["market"]),
    ("panel.risk_free", "here:factors.csv#bond"), ("panel.conditions", ["growth", "trade"]), ("panel.rows", "any"),
    ("models.one.factors", ["market", "size"]), ("models.one.errors", "classical"), ("models.one.lags", 7),
    ("models.one.adjust", "vasicek"), ("tests.joint_alpha", ["exact", "robust"]), ("tests.diagnose", True),
    ("tests.breaks", "sup-f"), ("tests.rolling_window", 30), ("two_pass.factors", ["market", "size"]),
    ("two_pass.beta_sample", "rolling"), ("two_pass.draws", 59),
    ("two_pass.window", {"factors": ["market"], "beta_sample": "rolling", "draws": 49},
     {"factors": ["market"], "beta_sample": "rolling", "draws": 49, "window": 30}),
    ("cost_of_equity.company", "BRTW"), ("cost_of_equity.model", "two"), ("cost_of_equity.premium", {"market": 0.05}),
    ("cost_of_equity.premium.market.mean", PREMIUM, {"market": {"mean": "geometric"}}),
    ("cost_of_equity.premium.market.horizon", PREMIUM | {"market": {"mean": "blume", "horizon": 2}},
     {"market": {"mean": "blume", "horizon": 3}}),
    ("cost_of_equity.premium.market.span", PREMIUM, {"market": {"span": ["2013-01", "2015-12"]}}),
    ("cost_of_equity.premium.market.value", GIVEN, {"market": {"value": 0.04, "error": 0.01}}),
    ("cost_of_equity.premium.market.error", GIVEN, {"market": {"value": 0.05, "error": 0.02}}),
    ("cost_of_equity.premium.market.excess_of", GIVEN, {"market": GIVEN["market"] | {"excess_of": "bill"}}),
    ("cost_of_equity.premium.market.basis", GIVEN, {"market": GIVEN["market"] | {"basis": "a survey"}}),
    ("cost_of_equity.risk_free", 0.04), ("cost_of_equity.on", "2016-06-30"), ("cost_of_equity.inflation", ""),
    ("cost_of_equity.add_ons", ADDED), ("cost_of_equity.draws", 199), ("cost_of_equity.in_currency", ABROAD),
    ("cost_of_equity.add_ons.size.value", ADDED, {"size": {"value": 0.02, "reason": "small"}}),
    ("cost_of_equity.add_ons.size.reason", ADDED, {"size": {"value": 0.01, "reason": "smaller"}}),
    ("cost_of_equity.in_currency.code", ABROAD, ABROAD | {"code": "ORN"}),
    ("cost_of_equity.in_currency.inflation", ABROAD, ABROAD | {"inflation": [0.02, 0.04]}),
    ("cost_of_equity.peers.companies", ["BRTW", "DNMK"]), ("cost_of_equity.peers.accounts", "here:accounts_2.csv"),
    ("cost_of_equity.peers.debt", "gross_debt"), ("cost_of_equity.peers.equity", "book"),
    ("cost_of_equity.peers.tax", "top_tax"), ("cost_of_equity.peers.how", "mean"), ("cost_of_equity.peers.debt_beta", 0.2),
    ("sensitivity.markets", ["here:indices.csv#few"]), ("sensitivity.risk_free", "here:factors.csv#bond"),
    ("sensitivity.windows", ["P3Y"]), ("sensitivity.frequencies", ["W"]), ("sensitivity.adjustments", ["blume"]),
    *((f"implied_cost.{key}", IMPLIED, IMPLIED | change) for key, change in (
        ("forecasts", {"forecasts": "here:forecasts_2.csv"}), ("model", {"model": "H-model"}), ("long_run_growth", {"long_run_growth": 0.03}),
        ("long_run_growth_error", {"long_run_growth_error": 0.01}), ("history", {"history": "here:past.csv"}), ("market_values", {"market_values": "price"}), ("bias", {"bias": 0.1}),
        ("bias_error", {"bias_error": 0.02}))),
    ("implied_cost.fade_years", RESIDUAL, RESIDUAL | {"fade_years": 5}), ("implied_cost.persistence", RESIDUAL, RESIDUAL | {"persistence": 0.5}),
    *((f"beta_forecasts.{key}", FORECASTS, FORECASTS | {key: value}) for key, value in (
        ("market", "here:indices.csv#few"), ("risk_free", "here:factors.csv#bond"), ("windows", ["P2Y"]), ("frequencies", ["M"]),
        ("adjustments", ["blume"]), ("estimators", ["dimson"]), ("every", "P1M"), ("horizon", "P6M"), ("realised_frequency", "M"),
        ("base_case", {"adjustment": "vasicek"}))),
    ("model_comparison.models", {}, {"models": ["one", "small"]}), ("model_comparison.how", {}, {"how": "exact"}),
    ("model_comparison.level", {}, {"level": 0.2}), ("model_comparison.draws", {}, {"draws": 99}),
    *((f"cost_of_equity.hierarchical.{key}", DRAWN, DRAWN | {key: value}) for key, value in (
        ("industry", "kind"), ("accounts", "here:accounts_2.csv"), ("debt", "gross_debt"), ("equity", "book"))),
    ("cost_of_equity.hierarchical", DRAWN, {}),
    ("sensitivity.estimators", ["dimson"]), ("sensitivity.chosen", {"window": "P2Y"}), ("sensitivity.published", 0.8),
]  # fmt: skip
UNMOVED = {  # equal in these data: a constant bill, a balanced panel, peers by name, no foreign asset; or outside the stages
    *("panel.exchange_rates", "two_pass.draws", "cost_of_equity.premium.market.excess_of", "cost_of_equity.on"),
    *("cost_of_equity.inflation", "sensitivity.risk_free", "sensitivity.chosen", "sources.here.tables"),
    *("implied_cost.market_values", "portfolios.two.industry", "panel.companies", "model_comparison.models", "beta_forecasts.risk_free"),
}  # fmt: skip
TABLES = ("study.known_by.growth", "series.sorted.sort", "series.fx", "portfolios.two", "panel.dividends", "panel.splits", "two_pass",
          *(f"cost_of_equity.{part}" for part in ("premium", "add_ons", "in_currency", "hierarchical")),
          "implied_cost", "beta_forecasts", "model_comparison")  # fmt: skip
EXEMPT = {  # they move no number, are of services, are whole tables, or are tried for another table of events
    *("cost_of_equity.peers", "series.composite", "series.sort", "panel.dividends.ratio"),
    *(f"panel.{t}.{key}" for t in ("splits", "final_payments") for key in ("table", "asset", "date", "amount", "ratio")),
    *(f"report.titles.{key}" for key in ("title", "x", "y", "legend")),
    *("study.title", "study.question", "study.inherits", "study.asset", "models.name", "series.address"),
    *(f"sources.{key}" for key in ("kind", "url", "format", "rest", "credentials", "snapshots", "queries")),
    *(f"report.{key}" for key in ("figures", "titles", "export", "level", "separator", "decimal_mark", "dates", "interactive")),
}  # fmt: skip


def content_with(key, value):
    """The content of the study with another value at a key."""
    content = _copied(BASE)
    *above, last = key.split(".")
    place = content
    for part in above:
        place = next(m for m in place if m["name"] == part) if isinstance(place, list) else place[part]
    place[last] = value
    return content


def _copied(content):
    if isinstance(content, dict):
        return {k: _copied(v) for k, v in content.items()}
    return [_copied(v) for v in content] if isinstance(content, list) else content


def keys_of_schema():
    """Every key of a study without the names of its tables: ``models.lags``."""
    found = set()

    def walk(kind, above):
        for name, field in kind.model_fields.items():
            inside = [k for k in _classes(field.annotation) if hasattr(k, "model_fields")]
            for k in inside:
                walk(k, (*above, name))
            if not inside or above:
                found.add(".".join((*above, name)))

    walk(Study, ())
    return found


def _classes(annotation):
    yield annotation
    for part in getattr(annotation, "__args__", ()):
        yield from _classes(part)


class Kept(Scratch):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(5)
        days = pd.bdate_range("2012-01-02", "2016-12-30")
        market = rng.normal(0.0004, 0.01, len(days))
        steps = {a: (0.6 + 0.2 * k) * market + rng.normal(0, 0.01, len(days)) for k, a in enumerate(ASSETS)}
        prices = pd.DataFrame({a: 100 * np.exp(np.cumsum(s)) for a, s in steps.items()}, days).rename_axis("date")
        months = pd.period_range("2011-01", "2016-12", freq="M")
        self.tables = {}
        for name, factor in (("prices", 1.0), ("prices_2", 1.01)):
            long = (prices.round(4) * factor).stack().rename("price").rename_axis(["date", "asset"]).reset_index()
            shares = np.where(np.arange(len(long)) % 97 == 0, 0, 500)
            self.tables[name] = long.assign(close=lambda t: (t["price"] * (1 + 0.001 * (t.index % 3))).round(4),
                                            volume=1000, shares=shares)  # fmt: skip
        for name in ("factors", "factors_2"):
            monthly = rng.normal(0.5, 4, (len(months), 2)).round(2)
            self.tables[name] = pd.DataFrame(monthly, columns=["market", "size"]).assign(bill=0.1, bond=0.2)
            self.tables[name].insert(0, "month", months.astype(str))
        levels = 100 * np.exp(np.cumsum(rng.normal(0.002, 0.01, (len(months), 3)), axis=0)).round(4)
        self.tables["prices_index"] = pd.DataFrame(levels, columns=["cpi", "trade", "other"]).assign(
            month=months.astype(str)
        )
        index = 1000 * np.exp(np.cumsum(market))
        self.tables["indices"] = pd.DataFrame({"date": days, "all": index.round(3), "few": (index**0.9).round(3)})
        for name in ("fx", "fx_2", "orn"):
            rate = np.exp(np.cumsum(rng.normal(0, 0.02, len(months)))).round(5)
            self.tables[name] = pd.DataFrame({"month": months.astype(str), "rate": rate})
        for name in ("dividends", "dividends_2"):
            dates = [f"{y}-05-{10 + k}" for y in range(2012, 2017) for k in range(2)]
            self.tables[name] = pd.DataFrame({"asset": ["AURL", "BRTW"] * 5, "firm": ["BRTW", "AURL"] * 5, "date": dates,
                                              "paid": [d.replace("-05-", "-06-") for d in dates],
                                              "amount": rng.uniform(1, 2, 10).round(2), "gross": 2.5})  # fmt: skip
        self.tables["splits"] = pd.DataFrame(
            {"asset": ["CSHW"], "date": ["2014-03-03"], "ratio": [2.0], "times": [3.0]}
        )
        self.tables["payments"] = pd.DataFrame({"asset": ["EBMK"], "date": ["2016-12-30"], "amount": [90.0]})
        for name, of in (("companies", "AURL BRTW"), ("companies_2", "AURL CSHW")):
            kinds = ["tides" if a in of else "salt" for a in ASSETS]
            self.tables[name] = pd.DataFrame(
                {
                    "asset": ASSETS,
                    "name": [f"{a} plc" for a in ASSETS],
                    "industry": kinds,
                    "kind": kinds[::-1],
                    "listed": "2001-02-03",
                }
            )
        for name in ("stocks", "stocks_2"):
            cells = {c: rng.normal(0.01, 0.05, 14 * len(months)).round(4) for c in ("r", "q", "bm")}
            self.tables[name] = pd.DataFrame({"month": np.repeat(months.astype(str), 14), "stock": [f"T{k}" for k in range(14)] * len(months),
                                              **cells, "size": np.exp(rng.normal(0, 1, 14 * len(months))).round(3),
                                              "main": [k % 2 for k in range(14)] * len(months)})  # fmt: skip
        stocks = [f"T{k}" for k in range(14)]
        self.tables["members"] = pd.DataFrame(
            {"asset": stocks, "entry": ["2011-01-01", "2013-02-01"] * 7, "exit": ""}
        )
        self.tables["gone"] = pd.DataFrame(
            {"asset": ["T3", "T4"], "date": ["2014-02-28", "2015-03-31"], "return": [-0.3, 0.2]}
        )
        for name, growth in (("forecasts", 0.05), ("forecasts_2", 0.06)):
            self.tables[name] = pd.DataFrame({
                "date": "2016-11-30", "asset": ASSETS, "price": 50.0, "dividend_0": 1.9, "dividend_1": 2.0, "growth": growth,
                "growth_years": 5.0, "book_value": 40.0, "payout": 0.5, "earnings_1": 4.0, "forecast_sd": 0.1, "analysts": 4})  # fmt: skip
        self.tables["past"] = pd.DataFrame({"period": [2013, 2014, 2015], "asset": "AURL", "forecast": [1.1, 1.2, 1.25],
                                            "outcome": [1.0, 1.1, 1.2]})  # fmt: skip
        for name, more in (("accounts", 0), ("accounts_2", 7)):
            self.tables[name] = pd.DataFrame({
                "asset": ASSETS, "date": "2015-12-31", "net_debt_m": np.arange(5) * 10 + 20 + more, "gross_debt": 90,
                "market_value_m": np.arange(5) * 5 + 100, "book": 80, "tax_rate": 0.25, "top_tax": 0.4})  # fmt: skip
        for name, lag in (("releases", 1), ("late", 2)):
            day = (months + lag).to_timestamp().strftime("%Y-%m-%d")
            self.tables[name] = pd.DataFrame({"period": months.astype(str), "other period": (months - 1).astype(str),
                                              "released": day, "other": (months + 3).to_timestamp().strftime("%Y-%m-%d"),
                                              "kind": np.where(np.arange(len(months)) % 2, "first", "second"),
                                              "value": rng.normal(0, 1, len(months)).round(3), "worth": 1.5})  # fmt: skip
        for name, table in self.tables.items():
            self.write(name, table)

    def write(self, name, table):
        (self.folder / "data").mkdir(exist_ok=True)
        table.to_csv(self.folder / "data" / f"{name}.csv", index=table.index.name is not None)

    def study(self, content):
        return Study.of(**content).with_sources_at({"here": str(self.folder / "data")})

    def outcome(self, content, vault, keep):
        """Checksums of all stages with the numbers, or the text of the refusal."""
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                result = run(self.study(content), vault=self.folder / vault, keep=keep)
        except UltrumError as error:
            return f"{type(error).__name__}: {error}", None
        return {name: s.state for name, s in result.stages.items()}, run_facts(result)

    def test_each_key_of_a_study(self):
        base = self.outcome(BASE, "kept", keep=True)
        self.assertIsInstance(base[0], dict, base[0])
        most = int(os.environ.get("ULTRUM_KEYS", "6"))
        first = dt.date.today().toordinal() * most % len(OTHER)
        for key, *values in itertools.islice(itertools.cycle(OTHER), first, first + min(most, len(OTHER))):
            whole = key if len(values) == 1 else next(t for t in TABLES if key.startswith(t))
            before = base
            if len(values) == 2:
                before = self.outcome(content_with(whole, values[0]), "kept", keep=True)
            content = content_with(whole, values[-1])
            kept, fresh = (
                self.outcome(content, vault, keep) for vault, keep in (("kept", True), ("fresh", False))
            )
            with self.subTest(key):
                self.assertEqual(kept[0], fresh[0])
                if fresh[1] is None or before[1] is None:
                    continue  # refused, and so it is with stored results
                if key not in UNMOVED:
                    self.assertNotEqual(kept[0], before[0])
                self.assertEqual(kept[1]["numbers"], fresh[1]["numbers"])
                because = changes(before[1], kept[1]).moved["because"]
                named = f"[{'.'.join(key.split('.')[:-1])}] {key.split('.')[-1]}"
                section = f"[{'.'.join(whole.split('.')[:-1])}"
                self.assertEqual([b for b in because if named not in b and section not in b], [])

    def test_a_cell_of_each_file(self):
        base = self.outcome(BASE, "kept", keep=True)
        most = int(os.environ.get("ULTRUM_KEYS", "8")) // 4
        read = [name for name in self.tables if f"here:{name}.csv" in str(BASE)]
        first = dt.date.today().toordinal() * most % len(read)
        for name in itertools.islice(itertools.cycle(read), first, first + min(most, len(read))):
            table = self.tables[name]
            changed = table.copy()
            unused = (
                "main",
                "close",
                "shares",
                "volume",
                "worth",
                "other",
                "few",
                "month",
                "period",
                "other period",
            )
            column = next(c for c in reversed(table.columns) if c not in unused)
            row = len(table) // 2
            old = changed[column].iloc[row]
            changed[column] = changed[column].astype(object)
            changed.loc[changed.index[row], column] = (
                old * 1.5 if isinstance(old, float | int | np.number) else f"{old}x"
            )
            if name in ("releases", "companies", "splits"):
                changed = table.drop(index=table.index[row])
            self.write(name, changed)
            kept, fresh = (self.outcome(BASE, vault, keep) for vault, keep in (("kept", True), ("fresh", False)))
            with self.subTest(name, column=column):
                self.assertEqual(kept[0], fresh[0])
                if fresh[1] is not None:
                    self.assertEqual(kept[1]["numbers"], fresh[1]["numbers"])
                    payloads = Payloads(self.folder / "kept" / "payloads")
                    moved = changes(base[1], kept[1], bytes_of=lambda c, p=payloads: p.read(c, c))
                    self.assertLessEqual(set(moved.moved["because"]), {f"here:{name}.csv"})
                    self.assertEqual(set(moved.cells["download"]), {f"here:{name}.csv"})
                    if len(changed) == len(table) and name not in ("prices", "dividends"):
                        self.assertEqual(moved.cells["cells"].tolist(), [1])
            self.write(name, table)

    def test_a_file_that_comes_or_goes_among_those_of_a_pattern(self):
        prices = self.tables["prices"]
        (self.folder / "data" / "each").mkdir(parents=True)

        def lay(names):
            for file in (self.folder / "data" / "each").iterdir():
                file.unlink()
            for name in names:
                one = prices[prices["asset"] == name][["date", "price"]]
                one.to_csv(self.folder / "data" / "each" / f"{name}.csv", index=False)

        content = {
            "study": {"title": "t"}, "sources": {"here": {"kind": "table", "url": "."}},
            "panel": {"assets": "here:each/{asset}.csv", "factors": "here:factors.csv", "factor_units": "percent",
                      "risk_free": "here:factors.csv#bill"},
            "models": [{"name": "one", "factors": ["market"]}],
        }  # fmt: skip
        before = None
        for names in (["AURL", "BRTW"], ["AURL", "BRTW", "CSHW"], ["AURL", "CSHW"]):
            lay(names)
            kept, fresh = (
                self.outcome(content, vault, keep) for vault, keep in (("kept", True), ("fresh", False))
            )
            self.assertEqual(kept[0], fresh[0])
            self.assertEqual([a for a in ASSETS if f"models.one.{a}.market" in kept[1]["numbers"]], names)
            if before is not None:
                word = "CSHW.csv (new)" if len(names) == 3 else "BRTW.csv (gone)"
                self.assertIn(f"here:each/{word}", changes(before, kept[1]).revised)
            before = kept[1]

    def test_lags_of_a_model_reach_rolling_windows_and_the_sensitivity(self):
        found = run(self.study(content_with("models.one.lags", 7)), vault=self.folder / "v")
        y, x = found.panel.excess["AURL"].to_pandas().iloc[-24:], found.panel.factors["market"].iloc[-24:]
        fit = ul.regress(y, x, lags=7)
        self.assertAlmostEqual(found.rolling.standard_errors[-1, 0, 1], fit.standard_errors["market"], 12)
        index = self.tables["indices"].set_index("date")["all"]
        months = index.groupby(index.index.to_period("M")).last().pct_change().iloc[-24:] - 0.001
        fit = ul.regress(y, months.rename("all").set_axis(y.index), lags=7)
        self.assertAlmostEqual(found.sensitivity.table["error"].iloc[0], fit.standard_errors["all"], 9)
        with self.assertRaisesRegex(UltrumError, "rolling windows take a number of lags"):
            run(self.study(content_with("models.one.lags", "automatic")), vault=self.folder / "v")

    def test_the_order_of_keys_is_a_setting(self):
        other = content_with("portfolios.two.weights", {"BRTW": 0.7, "AURL": 0.3})
        runs = [run(self.study(c), vault=self.folder / "v") for c in
                (content_with("portfolios.two.weights", {"AURL": 0.3, "BRTW": 0.7}), other)]  # fmt: skip
        self.assertEqual([r.stages["returns"].reused for r in runs], [False, False])

    def test_every_key_of_the_schema_is_tried(self):
        names = {"here", "growth", "both", "sorted", "fx", "pair", "two", "one", "market", "size"}

        def plain(key):
            return ".".join(
                p
                for n, p in enumerate(key.split("."))
                if p not in names or n == key.count(".") or (n != key.count(".") - 1 and n != 1)
            )

        tried = {plain(key) for key, *_ in OTHER}
        self.assertEqual({k for k in keys_of_schema() - EXEMPT if k not in tried}, set())

    def test_warnings_are_about_the_assets_that_are_named(self):
        content = content_with("panel.only", ["AURL", "BRTW", "CSHW", "DNMK"])
        result = run(self.study(content), vault=self.folder / "v")
        subjects = {w.subject for w in result.warnings}
        self.assertNotIn("EBMK", subjects)
        whole = run(self.study(BASE), vault=self.folder / "v")
        self.assertIn("EBMK", {w.subject for w in whole.warnings})

    def test_a_stage_that_is_reused_warns_as_it_did_in_words_of_the_study(self):
        heard = []
        for _ in range(2):
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                run(self.study(BASE), vault=self.folder / "v")
            heard.append([str(w.message) for w in caught if w.category is ul.DataWarning])
        self.assertEqual(heard[0], heard[1])
        splits = [text for text in heard[0] if "a split of" in text]
        self.assertTrue(
            splits
            and all(t.endswith("Set [panel] splits, or correct the prices that are wrong.") for t in splits)
        )

    def test_values_come_back_as_they_were(self):
        rng = np.random.default_rng(1)
        index = pd.period_range("2020-01", periods=3, freq="Q")
        frame = pd.DataFrame(
            {"a": [1.5, np.nan, -np.inf], "b": ["x", None, "z"], "c": [True, False, True]}, index
        )
        whole = (
            frame, frame["a"], frame.set_index("b", append=True), pd.Categorical(["u", "v", "u"]), index,
            pd.date_range("2020-01-01", periods=3, tz="Asia/Tokyo"), rng.normal(size=(2, 3, 4)), np.float64(0.1), 1e-300,
            np.array(["2020-01-01"], "datetime64[s]"), {("k", 1): [None, True, 3, "t"]}, pd.Timestamp("2020-01-01 12:00"),
            pd.Period("2020-03", "M"), b"\x00\xff", dt.date(2020, 1, 2), pd.array([1, None], dtype="Int64"),
        )  # fmt: skip
        back = from_bytes(to_bytes(whole))
        for one, other in zip(whole, back, strict=True):
            self.assertIs(type(one), type(other))
            if isinstance(one, pd.DataFrame):
                pd.testing.assert_frame_equal(one, other, check_exact=True)
            elif isinstance(one, pd.Series):
                pd.testing.assert_series_equal(one, other, check_exact=True)
            elif isinstance(one, pd.Index):
                pd.testing.assert_index_equal(one, other, exact=True)
            elif isinstance(one, np.ndarray):
                np.testing.assert_array_equal(one, other)
            else:
                self.assertEqual(str(one), str(other))
        for refused in (lambda: 1, object(), {"a": unittest}, np.array([object()])):
            with self.assertRaises(NotStorableError):
                to_bytes(refused)
        good = to_bytes([1.5, np.arange(3)])
        for k in range(0, len(good), 7):
            damaged = bytearray(good)
            damaged[k] ^= 1 << (k % 8)
            try:
                from_bytes(bytes(damaged))
            except NotStorableError:
                continue


class Releases(unittest.TestCase):
    def test_a_quarter_is_known_with_its_last_month(self):
        quarters = pd.period_range("2020Q1", periods=3, freq="Q")
        series = ul.TimeSeries.from_pandas(pd.Series([1.0, 2.0, 3.0], quarters), name="x")
        months = pd.period_range("2020-01", periods=9, freq="M")
        dates = pd.Series((months + 1).to_timestamp() + pd.Timedelta(days=9), months)
        table = releases(series, dates)
        self.assertEqual(
            table["day"].dt.strftime("%Y-%m-%d").tolist(), ["2020-04-10", "2020-07-10", "2020-10-10"]
        )
        for wrong, words in ((dates.iloc[:-1], "no release date for 2020-Q3"),
                             (dates.where(dates.index != months[7]), "no release date for 2020-Q3"),
                             (pd.concat([dates, dates.iloc[4:5]]), "two release dates for 2020-05")):  # fmt: skip
            with self.assertRaisesRegex(UltrumError, words):
                releases(series, wrong)


class Places(Scratch):
    """Two folders with files of the same names, and one vault."""

    def files(self, name, level):
        (self.folder / name).mkdir()
        (self.folder / name / "a.csv").write_text(f"month,x\n2024-01,{level}\n2024-02,{level + 1}\n")

    def desk(self, name, **more):
        sources = {"here": {"kind": "table", "url": str(self.folder / name)}}
        return ul.Desk(self.folder / "vault", sources=sources, **more)

    def value(self, name, **more):
        with self.desk(name, **more) as desk:
            return desk.fetch("here:a.csv#x").to_pandas().iloc[0]

    def test_no_folder_answers_for_another(self):
        self.files("one", 1)
        self.files("two", 5)
        self.files("three", 9)
        self.assertEqual([self.value(n) for n in ("one", "two", "one")], [1, 5, 1])
        self.assertEqual([self.value(n, offline=True) for n in ("one", "two")], [1, 5])
        with self.refused(UltrumError, "holds no here:a.csv of this folder"):
            self.value("three", offline=True)
        with self.desk("one") as desk, desk.at("9999-01-01") as then:
            self.assertEqual(then.fetch("here:a.csv#x").to_pandas().iloc[0], 1)

    def test_a_moved_folder_finds_its_files_by_their_bytes(self):
        self.files("one", 1)
        self.files("two", 5)
        self.assertEqual([self.value(n) for n in ("one", "two")], [1, 5])
        (self.folder / "one").rename(self.folder / "moved")
        self.assertEqual(self.value("moved", offline=True), 1)

    def test_a_file_that_changes_is_revised_in_its_own_folder(self):
        self.files("one", 1)
        self.files("two", 5)
        for name in ("one", "two", "one", "two"):
            self.value(name)
        with self.desk("one") as desk:
            self.assertEqual(len(desk.vault.vintages("here", "a.csv")), 2)
        (self.folder / "one" / "a.csv").write_text("month,x\n2024-01,2\n2024-02,2\n")
        self.assertEqual(self.value("one"), 2)
        with self.desk("one") as desk:
            table = desk.revisions("here:a.csv#x")
            self.assertEqual(table[["before", "after"]].values.tolist(), [[1, 2]])
