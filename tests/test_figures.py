"""Figures carry units, source and sample, and can be changed; exports are safe."""

import json
import os
from importlib import resources

import matplotlib as mpl
import matplotlib.dates
import matplotlib.dates as mdates
import numpy as np
import pandas as pd
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.path import Path as MplPath
from matplotlib.text import Text
from PIL import Image

import ultrum as ul
from tests.support import Scratch, command, series
from ultrum.file_access import process_mark
from ultrum.report.figures.figure_style import replace_title
from ultrum.report.table_files import to_csv, whole_folder


class Figures(Scratch):
    def setUp(self):
        super().setUp()
        self.panel = ul.practice.panel()
        self.table = ul.factor_betas(self.panel, ["market"])

    def foot(self, ax):
        return ax.get_figure()._supxlabel.get_text()

    def test_betas_are_sorted_named_and_bounded(self):
        ax = ul.figures.betas(self.table, highlight="BRTW", source="exchange:prices.csv")
        named = [t.get_text() for t in ax.get_yticklabels()]
        self.assertEqual(named, list(self.table.coefficients["market"].sort_values().index))
        self.assertIn("exchange:prices.csv", self.foot(ax))
        self.assertIn("2004-02 to 2024-12", self.foot(ax))

    def test_loadings_have_a_panel_for_each_factor_and_the_intervals_of_the_table(self):
        table = ul.factor_betas(self.panel, ["market", "size"])
        panels = ul.figures.loadings(table, highlight="BRTW", source="exchange:prices.csv")
        order = [t.get_text() for t in panels[0].get_yticklabels()]
        self.assertEqual(order, list(table.coefficients["market"].sort_values().index))
        for ax, (factor, reference) in zip(panels, (("market", 1.0), ("size", 0.0)), strict=True):
            bars, points = ax.collections
            want = table.interval(factor, 0.95).loc[order]
            np.testing.assert_allclose([path.vertices[:, 0] for path in bars.get_paths()], want, atol=1e-12)
            self.assertEqual(points.get_offsets()[:, 0].tolist(), table.coefficients.loc[order, factor].tolist())
            self.assertEqual(ax.get_lines()[0].get_xdata()[0], reference)

    def test_line_of_fit_goes_through_the_fit(self):
        fit = self.table.fit("BRTW")
        ax = ul.figures.line_of_fit(fit)
        x, y = ax.get_lines()[-1].get_data()
        slope = (y[-1] - y[0]) / (x[-1] - x[0])
        self.assertAlmostEqual(slope, fit.coefficients["market"], 9)
        self.assertIn("251 months", self.foot(ax))
        self.assertIn("% per month", ax.get_ylabel())

    def test_build_up_reaches_the_cost(self):
        cost = ul.cost_of_equity(self.table, premia={"market": 0.05}, risk_free=0.03)
        ax = ul.figures.cost_components(cost, "BRTW")
        self.assertAlmostEqual(max(p.get_width() for p in ax.patches), 100 * cost.value["BRTW"], 9)
        with self.refused(ul.UltrumError, "'TIDE'", "BRTW"):
            ul.figures.cost_components(cost, "TIDE")

    def test_parts_without_a_beta_say_their_name_only(self):
        cost = ul.cost_of_equity(self.table, premia={"market": 0.05}, risk_free=0.03,
                                 add_ons={"licence risk": (0.004, "order 12")})  # fmt: skip
        ax = ul.figures.cost_components(cost.in_currency("QSR", inflation=(0.02, 0.03)), "BRTW")
        names = [t.get_text() for t in ax.get_yticklabels()]
        self.assertIn("licence risk", names)
        self.assertIn("in QSR", names)
        self.assertNotIn("nan", " ".join(names))

    def test_moving_betas_breaks_and_premia_show_their_numbers(self):
        rolled = ul.rolling_regress(self.panel.excess, self.panel.factor_table, window=60, errors="hac")
        ax = ul.figures.beta_path(rolled, "MRWG", term="size", whole=0.2, source="college")
        line = ax.get_lines()[0].get_ydata()
        np.testing.assert_array_equal(line, rolled.frame("coefficients", "size")["MRWG"])
        self.assertEqual(ax.get_title(loc="left"), "Size beta of MRWG in rolling windows")
        self.assertIn("Newey–West (HAC) standard errors", self.foot(ax))
        state_space = ul.kalman_beta(self.panel)
        band = ul.figures.beta_path(state_space, "MRWG", marks={"true break": "2014-07-01"})
        self.assertIn("true break", [t.get_text() for t in band.get_legend().get_texts()])
        found = ul.break_test(ul.factor_betas(self.panel).fit("MRWG"), how="sup-f", draws=99)
        ax = ul.figures.break_path(found)
        self.assertEqual(ax.get_lines()[-1].get_ydata()[0], found.statistic)
        with self.refused(ul.UltrumError, "one date has no path"):
            ul.figures.break_path(ul.break_test(self.table.fit("MRWG")))
        made = ul.two_pass(self.panel, draws=49)
        ax = ul.figures.predicted_against_realised(made)
        places = ax.collections[0].get_offsets()
        np.testing.assert_allclose(places[:, 1], 1200 * made.pricing["realised"])
        self.assertIn("21 to 23 assets", self.foot(ax))

    def test_peers_and_sensitivity_mark_the_own(self):
        made = ul.peer_beta(self.table, ["EBMK", "CSHW", "SLTM"], debt_to_equity=1.0, target_debt_to_equity=0.9)
        ax = ul.figures.peers(made)
        self.assertEqual(ax.get_yticklabels()[0].get_text(), f"company: {made.beta:.2f}")
        whole = (self.panel.factors["market"] + self.panel.risk_free).rename("index")
        grid = ul.beta_sensitivity(
            ul.SeriesTable.from_pandas(self.panel.assets, measure="return"), ul.TimeSeries.from_pandas(whole, measure="return"),
            "BRTW", risk_free=self.panel.rate, frequencies=["M", "Q"], windows=["P5Y", "P10Y"],
            chosen={"window": "P10Y"}, published=0.9)  # fmt: skip
        ax = ul.figures.sensitivity(grid)
        marked = ax.collections[2].get_offsets()
        self.assertEqual((len(marked), marked[0, 1]), (1, grid.base_case["beta"]))
        forecasts = ul.evaluate_betas(
            ul.SeriesTable.from_pandas(self.panel.assets, measure="return"), ul.TimeSeries.from_pandas(whole, measure="return"),
            risk_free=self.panel.rate, windows=["P5Y"], frequencies=["M"], draws=49)  # fmt: skip
        shaded = ul.figures.sensitivity(grid, forecasts=forecasts).collections
        worse = {n for n, row in forecasts.table.iterrows() if not row["included"]}
        keys = grid.table.dropna(subset=["beta"])[["window", "frequency", "adjustment", "estimator"]].agg(
            ", ".join, axis=1
        )
        pale, hollow = (sum(keys.isin(some)) for some in (worse, set(keys) - set(forecasts.table.index)))
        self.assertEqual([len(shaded[k].get_offsets()) for k in (3, 4)], [pale, hollow])
        self.assertGreater(hollow, 0)
        names = [t.get_text() for t in ax.get_yticklabels()]
        self.assertIn("P10Y", names)
        self.assertNotIn("index", names)  # a choice with one value is no choice

    def test_levels_are_levels_and_small_p_values_are_no_zeros(self):
        made = ul.peer_beta(self.table, ["EBMK", "CSHW", "SLTM"], debt_to_equity=1.0, target_debt_to_equity=0.9)
        for level, z in ((0.95, 4.302652729911275), (0.5, 0.816496580927726)):
            ax = ul.figures.peers(made, level=level)
            own = ax.collections[3].get_segments()[0][:, 0]
            np.testing.assert_allclose(own, made.beta + z * made.standard_error * np.array([-1, 1]))
            self.assertIn(f"bars: {100 * level:g} % intervals", self.foot(ax))
        found = ul.break_test(self.table.fit("MRWG"), how="sup-f", draws=1999)
        self.assertLess(found.p_value, 0.001)
        words = [t.get_text() for t in ul.figures.break_path(found).get_legend().get_texts()]
        self.assertTrue(any("p < 0.001" in w for w in words), words)

    def test_of_thousands_of_assets_only_what_can_be_read_is_named(self):
        quarters = pd.period_range("2010Q1", periods=24, freq="Q")
        rng = np.random.default_rng(1)
        market = pd.Series(rng.normal(0, 0.05, 24), quarters, name="market")
        wide = pd.DataFrame(rng.normal(0, 0.1, (24, 400)) + market.to_numpy()[:, None], quarters,
                            columns=[f"A{k}" for k in range(400)])  # fmt: skip
        wide.iloc[0, :50] = np.nan
        bill = ul.TimeSeries.from_pandas(pd.Series(0.01, quarters, name="bill"), measure="return")
        factor = ul.TimeSeries.from_pandas(market, measure="return", excess_of="bill")
        panel = ul.align(assets=wide, factors=factor, risk_free=bill, frequency="Q")
        betas = ul.figures.betas(ul.factor_betas(panel), highlight="A7")
        self.assertEqual([t.get_text() for t in betas.get_yticklabels()], ["A7"])
        self.assertLess(betas.get_figure().get_figheight(), 10)
        risk = ul.figures.risk_against_return(ul.risk_return(panel.assets))
        self.assertEqual(len(risk.texts), 0)
        self.assertIn("names omitted", self.foot(risk))
        cover = ul.figures.coverage_timeline(panel)
        named = [t.get_text() for t in cover.get_yticklabels()]
        self.assertEqual((len(named), set(panel.coverage.index[:50]) - set(named)), (80, set()))
        bar = cover.collections[-1].get_segments()[0][:, 0]  # to the very end of its last quarter
        self.assertEqual(str(mpl.dates.num2date(bar[1]).date()), "2016-01-01")
        self.assertEqual(len(ul.figures.correlation_grid(ul.correlations(panel.assets)).get_xticks()), 0)

    def test_the_users_own_axes_and_settings_stay_theirs(self):
        import matplotlib as mpl
        from matplotlib.figure import Figure

        before, own = dict(mpl.rcParams), Figure().subplots()
        self.assertIs(ul.figures.through_time(self.panel.rate, ax=own), own)
        self.assertEqual(dict(mpl.rcParams), before)


class Exports(Scratch):
    def test_nothing_a_sheet_would_run(self):
        frame = pd.DataFrame({"=cmd()": ["@SUM(A1)", "+1", "plain"], "n": [-1.5, 2.0, 3.0]})
        to_csv(frame, self.folder / "t.csv")
        lines = (self.folder / "t.csv").read_text().splitlines()
        self.assertEqual(lines, ["'=cmd(),n", "'@SUM(A1),-1.5", "'+1,2.0", "plain,3.0"])

    def test_a_number_of_few_decimals_has_no_rounding_behind_it(self):
        path = self.folder / "x.csv"
        ul.save(pd.DataFrame({"x": [0.1 + 0.2, 0.05 + 0.005, 1 / 3]}), path)
        self.assertEqual(path.read_text().split()[1:], ["0.3", "0.055", repr(1 / 3)])

    def test_numbers_come_back_to_the_last_digit(self):
        x = series([0.1, 1 / 3, 2e-300])
        to_csv(x.to_frame(), self.folder / "t.csv")
        back = pd.read_csv(self.folder / "t.csv")
        self.assertEqual(back["series"].tolist(), x.values.tolist())
        self.assertEqual(back["period"].tolist(), ["2010-01", "2010-02", "2010-03"])

    def test_a_folder_appears_whole_or_not_at_all(self):
        with self.assertRaises(ZeroDivisionError), whole_folder(self.folder / "r") as work:
            (work / "half.txt").write_text("half")
            1 / 0  # noqa: B018
        self.assertEqual(list(self.folder.iterdir()), [])
        for text in ("one", "two"):
            with whole_folder(self.folder / "r") as work:
                (work / f"{text}.txt").write_text(text)
        self.assertEqual(sorted(p.name for p in (self.folder / "r").iterdir()), [".ultrum", "two.txt"])

    def test_what_a_killed_run_left_is_cleared_by_the_next(self):
        host = process_mark().removesuffix(f"{os.getpid()}-")
        for name in (f".r-{host}999999-a", f".r-old-{host}999999-b/old"):
            (self.folder / name).mkdir(parents=True)
            (self.folder / name / ".ultrum").write_text("results\n")
        mine = self.folder / f".r-{process_mark()}c"
        mine.mkdir()
        (mine / ".ultrum").write_text("results\n")
        with self.assertRaises(ZeroDivisionError), whole_folder(self.folder / "r"):
            1 / 0  # noqa: B018
        self.assertEqual({p.name for p in self.folder.iterdir()}, {"r", mine.name})  # the old results are back


class Lines(Scratch):
    def series(self, name, measure="rate", start=0.0, count=36, **facts):
        values = start + np.sin(np.arange(count) / 3)
        return series(values, measure=measure, name=name, **facts)

    def test_two_units_have_a_scale_each_in_the_colour_of_its_line(self):
        left, right = self.series("a"), self.series("b", "index", 100.0, timing="average")
        ax = ul.figures.through_time(left, right, reference={"b": 100.0})
        self.assertEqual(ax.get_lines()[0].get_color(), ax.yaxis.label.get_color())
        self.assertEqual(ax.right_scale.get_lines()[0].get_color(), ax.right_scale.yaxis.label.get_color())
        self.assertEqual(list(ax.right_scale.get_lines()[1].get_ydata()), [100.0, 100.0])
        third = self.series("c", "price", 50.0, unit="QML")
        with self.refused(ul.UltrumError, "3 units", "small_multiples"):
            ul.figures.through_time(left, right, third)
        self.assertEqual(len(ul.figures.small_multiples([left, right, third])), 3)

    def test_rebased_lines_meet_at_the_first_common_period(self):
        late = series(np.arange(5.0, 35.0), start="2010-07", measure="price", unit="QML", name="late")
        early = self.series("early", "index", 50.0, timing="average")
        ax = ul.figures.through_time(early, late, rebase="first")
        y = [dict(zip(line.get_xdata(), line.get_ydata(), strict=True)) for line in ax.get_lines()]
        meeting = min(set(y[0]) & set(y[1]))
        self.assertEqual((y[0][meeting], y[1][meeting]), (100.0, 100.0))
        self.assertEqual(ax.get_ylabel(), "index, 2010-07 = 100")

    def test_spells_and_episodes_are_shaded_to_their_very_ends(self):
        x = self.series("x")
        found = ul.spells(x, "below zero")
        ax = ul.figures.through_time(x, shade=found, episodes={"the dry year": ("2011", "2011")})
        self.assertEqual(len(ax.patches), len(found) + 1)
        year = ax.patches[-1].get_extents().transformed(ax.transData.inverted())
        days = mdates.num2date([year.x0, year.x1])
        self.assertEqual([str(d)[:10] for d in days], ["2011-01-01", "2012-01-01"])
        self.assertIn("the dry year", [t.get_text() for t in ax.texts])

    def test_a_million_points_keep_their_extremes(self):
        values = np.random.default_rng(1).normal(size=1_000_000)
        values[[123_456, 777_777]] = 50.0, -50.0
        values[400_000:500_000] = np.nan
        moments = pd.date_range("2020-01-01", periods=len(values), freq="min", tz="UTC")
        x = ul.TimeSeries.from_pandas(pd.Series(values, moments), measure="score", frequency="N", name="x")
        drawn = ul.figures.through_time(x).get_lines()[0].get_ydata()
        self.assertLess(len(drawn), 10_000)
        self.assertEqual((np.nanmax(drawn), np.nanmin(drawn)), (50.0, -50.0))
        self.assertTrue(np.isnan(drawn).any())

    def test_bars_and_their_bands(self):
        daily = pd.Series(100 + np.arange(90.0), pd.bdate_range("2024-01-01", periods=90))
        made = ul.TimeSeries.from_pandas(daily, measure="price", currency="QML", name="close")
        bars = ul.to_bars(made, "W")
        ax = ul.figures.bars(bars, bands=ul.bands(bars["close"], 4))
        self.assertEqual(ax.get_ylabel(), "price, QML")
        with self.refused(ul.UltrumError, "open, high, low is not here"):
            ul.figures.bars(made.as_table())


class ForPrint(Scratch):
    @staticmethod
    def drawings():
        panel = ul.practice.panel()
        betas = ul.factor_betas(panel, ["market", "size"])
        cost = ul.cost_of_equity(betas, premia={"market": 0.05, "size": 0.02}, risk_free=0.03)
        peers = ul.peer_beta(betas, ["EBMK", "CSHW"], debt_to_equity=1.0, target_debt_to_equity=0.9)
        assets = ul.SeriesTable(panel.assets, tuple(panel.metadata[n] for n in panel.assets))
        models = ul.compare_models(panel, {"the market": ["market"], "all": ["market", "size"]}, draws=49)
        costs = ul.compare_costs({"two factors": cost, "shrunk": ul.cost_of_equity(
            ul.shrink_betas(betas), premia={"market": 0.05, "size": 0.02}, risk_free=0.03)}, "BRTW")  # fmt: skip
        forecasts = ul.evaluate_betas(
            assets,
            assets["BRTW"],
            risk_free=panel.rate,
            windows=["P5Y"],
            frequencies=["M"],
            estimators=["ols"],
            draws=49,
        )
        figures, brightwater, all_of_them = ul.figures, assets["BRTW"], ul.portfolio(panel.assets, name="all")
        return (
            lambda: betas.fit("BRTW").plot(source="the harbour college"),
            lambda: figures.cost_components(cost, "BRTW"),
            lambda: figures.peers(peers),
            lambda: figures.histogram(ul.distribution(brightwater)),
            lambda: figures.growth_of_one(assets[["EBMK", "CSHW", "BRTW"]]),
            lambda: figures.against_benchmark(ul.compare_to_benchmark(brightwater, all_of_them)),
            lambda: figures.through_time(panel.rate, ul.lag(panel.rate, 3)),
            lambda: figures.loadings(betas)[0],
            lambda: figures.squared_sharpe_ratios(models, source="the harbour college"),
            lambda: figures.costs_side_by_side(costs),
            lambda: figures.beta_forecast_errors(forecasts),
            lambda: figures.small_multiples([panel.rate, brightwater], title="The rate and one return")[0],
        )

    def test_texts_are_legible_and_inside_the_picture(self):
        for width, inches in (("column", 3.5), ("page", 7.0), (5.0, 5.0)):
            with ul.figures.print_layout(width, font="DejaVu Serif"):
                drawings = self.drawings() if width == "column" else self.drawings()[:6]
                for draw in drawings:
                    figure = draw().get_figure()
                    self.assertEqual(figure.get_figwidth(), inches)
                    FigureCanvasAgg(figure).draw()
                    for text in figure.findobj(lambda artist: isinstance(artist, Text) and artist.get_text()):
                        self.assertGreaterEqual(text.get_fontsize(), 7.0, text.get_text())
                        self.assertEqual(text.get_fontfamily()[0], "sans-serif")
                    labels = [t for ax in figure.axes for t in (*ax.texts, ax.xaxis.label, ax.yaxis.label)]
                    labels += [t for ax in figure.axes if ax.get_legend() for t in ax.get_legend().get_texts()]
                    for text in (*labels, *figure.texts):
                        box = text.get_window_extent()
                        inside = box.x0 >= -2 and box.x1 <= figure.bbox.x1 + 2 and box.y1 <= figure.bbox.y1 + 2
                        self.assertTrue(inside or not text.get_text(), f"{width}: {text.get_text()}")

    def test_the_font_is_in_the_file_and_the_usual_size_returns(self):
        with ul.figures.print_layout(4, font="DejaVu Serif"):
            ax = ul.figures.through_time(series(np.arange(12.0), name="x", measure="score"))
        ul.figures.write(ax, self.folder / "x.pdf")
        self.assertIn(b"DejaVuSerif", (self.folder / "x.pdf").read_bytes())
        usual = ul.figures.through_time(series(np.arange(12.0), name="x", measure="score"))
        self.assertEqual(usual.get_figure().get_figwidth(), 9.0)
        with (
            self.assertRaisesRegex(ul.UltrumError, "not installed"),
            ul.figures.print_layout(font="No Such Font"),
        ):
            self.fail("not refused")  # what is installed differs between machines
        for options, word in (
            ({"text_size": 5.0}, "7 to 20 points"),
            ({"width": 1.0}, "3.5 inches"), ({"width": "poster"}, "3.5 inches"),
        ):  # fmt: skip
            with self.refused(ul.UltrumError, word), ul.figures.print_layout(**options):
                self.fail("not refused")

    def test_a_legend_tells_a_series_from_what_became_of_it(self):
        level = series(np.arange(24.0) + 100, name="cpi", measure="index", title="Consumer prices")
        for change in (ul.lag, ul.growth, ul.standardise, lambda x: x.with_metadata(name="again")):
            changed = change(level) if change is not ul.lag else ul.lag(level, 1)
            ax = ul.figures.through_time(level, changed.with_metadata(title=level.metadata.title))
            words = [t.get_text() for t in ax.get_legend().get_texts()]
            self.assertEqual((len(set(words)), words[0].startswith("Consumer prices")), (2, True), words)

    def test_another_title_stands_where_the_first_was(self):
        panel = ul.practice.panel()
        title = "A title that is much longer than the width of the figure in a column of a journal"
        with ul.figures.print_layout("column"):
            one = ul.figures.line_of_fit(ul.factor_betas(panel, ["market"]).fit("BRTW"))
            replace_title(one, title)
            FigureCanvasAgg(one.get_figure()).draw()
            (shown,) = [t for t in one.findobj(Text) if t.get_text() == one.get_title("left")]
            self.assertEqual(shown.get_text().replace("\n", " "), title)
            box, below = shown.get_window_extent(), one.texts[0].get_window_extent()
            self.assertGreater(box.y0, below.y1)
            self.assertLess(box.x1, one.get_figure().bbox.x1)
            many = ul.figures.small_multiples([panel.rate, ul.lag(panel.rate, 1)], title="Rates")
            replace_title(many[0], "Two rates")
        self.assertEqual((many[0].get_figure().get_suptitle(), many[0].get_title("left")), ("Two rates", "bill"))

    def test_axes_of_the_user_are_left_alone(self):
        figure = Figure(figsize=(3, 3))
        theirs, ours = figure.subplots(1, 2)
        theirs.set_title("A title of the user that is wider than its panel", loc="left")
        ul.figures.through_time(series(np.arange(12.0), name="x", measure="score"), ax=ours)
        self.assertNotIn("\n", theirs.get_title("left"))

    def test_the_command_draws_for_print(self):
        self.file("f.csv", "date,a\n2020-01,1\n2020-02,2\n2020-03,4\n")
        for options, words in ((("--picture", "f.jpg"), "ends in none of .png, .svg, .pdf"),
                               (("--page", "f.html", "--size", "column"), "--label and --size need --picture")):  # fmt: skip
            refused = command("look", "f.csv", *options, cwd=self.folder)
            self.assertEqual((refused.returncode, words in refused.stderr), (2, True), refused.stderr)
        done = command("look", "f.csv", "--picture", "f.png", "--size", "column", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        with Image.open(self.folder / "f.png") as picture:
            self.assertEqual(picture.width, 1050)


class Maps(Scratch):
    def setUp(self):
        super().setUp()
        path = resources.files("ultrum.practice") / "data" / "council" / "provinces.geojson"
        self.shapes = json.loads(path.read_text())
        self.values = {f"{k:02d}": 0.01 * k for k in range(1, 12)} | {"99": 0.5}

    def test_classes_missing_and_unmatched(self):
        ax = ul.figures.regions(self.values, self.shapes, unit="%", classes=3, title="Shares")
        words = [t.get_text() for t in ax.get_legend().get_texts()]
        self.assertEqual(words[-1], "no value (1)")
        self.assertEqual(words[0], "1.0 to 4.3")
        self.assertEqual(ax.unmatched, ["99"])
        self.assertIn("codes without a shape: 99", ax.get_figure()._supxlabel.get_text())
        self.assertEqual(len({tuple(c.get_facecolor()[0]) for c in ax.collections}), 4)

    def test_each_region_has_its_name_inside_it(self):
        names = {f["properties"]["code"]: f["properties"]["name"] for f in self.shapes["features"]}
        ax = ul.figures.regions(self.values, self.shapes)
        self.assertEqual({t.get_text() for t in ax.texts}, set(names.values()))
        outlines = {f["properties"]["name"]: f["geometry"]["coordinates"][0] for f in self.shapes["features"]}
        for text in ax.texts:
            corners = text.get_window_extent().transformed(ax.transData.inverted()).corners()
            self.assertTrue(MplPath(outlines[text.get_text()]).contains_points(corners).all(), text.get_text())
        for feature in self.shapes["features"]:
            feature["properties"]["name"] = "A name that is far too long for the region it stands in"
        self.assertEqual({t.get_text() for t in ul.figures.regions(self.values, self.shapes).texts}, set(names))
        self.assertEqual(len(ul.figures.regions(self.values, self.shapes, name="").texts), 0)

    def test_what_is_no_map_is_refused(self):
        with self.refused(ul.UltrumError, "leading zeros"):
            ul.figures.regions({"1": 1.0}, self.shapes)
        with self.refused(ul.UltrumError, "not JSON"):
            ul.figures.regions(self.values, b"{")
        with self.refused(ul.UltrumError, "2 to 6"):
            ul.figures.regions(self.values, self.shapes, classes=9)
        with self.refused(ul.UltrumError, "cannot be read"):
            ul.figures.regions(self.values, self.folder / "none.geojson")


class Looking(Scratch):
    def test_names_never_lie_over_one_another(self):
        rng = np.random.default_rng(4)
        crowded = pd.DataFrame(
            0.02 + 0.003 * rng.normal(size=(60, 40)), pd.period_range("2010-01", periods=60, freq="M")
        )
        crowded.columns = [f"N{k:02d}" for k in range(40)]
        risk = ul.risk_return(ul.SeriesTable.from_pandas(crowded, measure="return"))
        ax = ul.figures.risk_against_return(risk)
        figure = ax.get_figure()
        renderer = FigureCanvasAgg(figure).get_renderer()
        boxes = [t.get_window_extent(renderer) for t in ax.texts]
        self.assertEqual(len(boxes), 40)
        over = [
            (a, b)
            for k, a in enumerate(boxes)
            for b in boxes[k + 1 :]
            if a.shrunk(0.98, 0.9).overlaps(b.shrunk(0.98, 0.9))
        ]
        self.assertEqual(over, [])

    def test_the_calendar_is_coloured_around_zero_and_readable(self):
        x = series(np.tile([0.05, -0.05, 0.0], 12), measure="return", name="A")
        ax = ul.figures.calendar_heat(ul.calendar_returns(x))
        image = ax.get_images()[0]
        up, down = (image.cmap(image.norm(v)) for v in (5.0, -5.0))
        self.assertGreater(up[2], up[0])  # blue above, brown below: told apart without red or green
        self.assertGreater(down[0], down[2])
        self.assertIn("5.0", [t.get_text() for t in ax.texts])

    def test_part_of_a_year_is_marked_and_not_in_the_mean(self):
        values = [0.01] * 10 + [0.0] * 12 + [0.02] * 12
        grid = ul.calendar_returns(series(values, start="2010-03", measure="return"))
        self.assertAlmostEqual(grid.summary.loc["mean", "year"], (0.0 + 1.02**12 - 1) / 2)
        self.assertEqual(grid.summary.loc["count", "year"], 2)
        names = [t.get_text() for t in ul.figures.calendar_heat(grid).get_yticklabels()]
        self.assertEqual(names[:3], ["2010 *", "2011", "2012"])

    def test_growth_begins_at_one_rates_move_in_steps_and_growth_has_a_zero(self):
        returns = series([0.1, -0.05], measure="return")
        line = ul.figures.growth_of_one(returns).get_lines()[0]
        np.testing.assert_allclose(line.get_ydata(), [1.0, 1.1, 1.1 * 0.95])
        self.assertLess(line.get_xdata()[0], pd.Timestamp("2010-01-01"))
        rate = series(np.repeat([0.02, 0.03], 8), measure="rate")
        self.assertEqual(ul.figures.through_time(rate).get_lines()[0].get_drawstyle(), "steps-post")
        moving = series(np.linspace(0.01, 0.05, 16), measure="rate")
        self.assertEqual(ul.figures.through_time(moving).get_lines()[0].get_drawstyle(), "default")
        levels = series(100 + 5 * np.sin(np.arange(40.0)), measure="index", timing="average")
        ax = ul.figures.through_time(ul.growth(levels, over="P1Y"))
        self.assertEqual(ax.get_ylabel(), "%, change over a year")
        self.assertTrue(any(list(one.get_ydata()) == [0, 0] for one in ax.get_lines()))

    def test_the_histogram_holds_every_value_and_its_normal(self):
        x = series(np.random.default_rng(1).normal(0, 0.05, 200), measure="return", name="A")
        ax = ul.figures.histogram(ul.distribution(x, bins=10))
        self.assertAlmostEqual(sum(p.get_height() for p in ax.patches), 100.0, 9)
        self.assertIn("|z| > 2, 3, 4", " ".join(t.get_text() for t in ax.texts))
        self.assertEqual(ax.get_xlabel(), "A, simple return, % per month")
        said = " ".join(t.get_text() for t in ax.get_figure().texts)
        self.assertIn(f"SD {100 * x.values.std():.4g} %", said)

    def test_a_title_lies_above_every_row_of_names(self):
        long = "A much longer name that goes over two lines of text "
        for names in (
            ["A", "B"],
            ["Consumer prices, all items, " + n for n in "ABC"],
            [long + n for n in "ABCDE"],
        ):
            lines = [series(np.arange(24.0) + k, measure="index", name=n) for k, n in enumerate(names)]
            ax = ul.figures.through_time(*lines, title="Title")
            figure = ax.get_figure()
            figure.draw_without_rendering()
            title = ax.title.get_window_extent()
            self.assertGreaterEqual(title.y0, ax.get_legend().get_window_extent().y1, names)
            self.assertLessEqual(title.y1, figure.bbox.y1, names)

    def test_a_histogram_says_what_its_numbers_are(self):
        values = np.random.default_rng(1).normal(0, 1.0, 200)
        score = ul.figures.histogram(ul.distribution(series(values, measure="score", name="S"), bins=8))
        rate = series(0.03 + 0.01 * values, measure="rate", quoted="effective", name="Y")
        yearly = ul.figures.histogram(ul.distribution(rate, bins=8))
        self.assertEqual((score.get_xlabel(), yearly.get_xlabel()), ("S, score", "Y, % per year"))
        edges = [(p.get_x(), p.get_x() + p.get_width()) for p in score.patches]
        self.assertAlmostEqual(edges[0][0], values.min(), 9)
        self.assertAlmostEqual(yearly.patches[-1].get_x() + yearly.patches[-1].get_width(),
                               100 * rate.values.max(), 9)  # fmt: skip

    def test_a_foot_says_tracking_error_in_percent(self):
        one, other = (series(np.random.default_rng(k).normal(0, 0.05, 60), measure="return", name=n)
                      for k, n in ((1, "A"), (2, "B")))  # fmt: skip
        made = ul.compare_to_benchmark(one, other)
        error = 100 * (one.values - other.values).std() * 12**0.5
        foot = " ".join(t.get_text() for t in ul.figures.against_benchmark(made).get_figure().texts)
        self.assertIn(f"tracking error {error:.4g} % per year", foot.replace("\n", " "))

    def test_growth_drawdown_coverage_and_benchmark(self):
        panel = ul.practice.panel()
        assets = ul.SeriesTable(panel.assets, tuple(panel.metadata[n] for n in panel.assets))
        one = assets["BRTW"]
        grown = ul.figures.growth_of_one(one).get_lines()[0].get_ydata()
        self.assertAlmostEqual(grown[-1], np.prod(1 + one.values.dropna()), 12)
        ax = ul.figures.drawdown(ul.drawdowns(one))
        self.assertAlmostEqual(
            min(ax.get_lines()[0].get_ydata()[1:]), 100 * ul.risk_return(one).table["max_drawdown"].iloc[0], 9
        )
        self.assertEqual(len(ul.figures.coverage_timeline(panel).get_yticks()), len(panel.coverage))
        with self.refused(ul.UltrumError, "distinguished"):
            ul.figures.growth_of_one(assets)
        ahead = (
            ul.figures.against_benchmark(ul.compare_to_benchmark(one, ul.portfolio(assets)))
            .get_lines()[-1]
            .get_ydata()
        )
        active = ul.compare_to_benchmark(one, ul.portfolio(assets)).active.values.dropna()
        self.assertAlmostEqual(ahead[-1], 100 * (np.prod(1 + active) - 1), 9)


class Saving(Scratch):
    def test_a_figure_is_written_by_the_ending_and_in_the_resolution_asked_for(self):
        ax = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW").plot()
        begins = {"f.pdf": b"%PDF-", "f.svg": b"<svg", "f.png": b"\x89PNG"}
        for name, begin in begins.items():
            self.assertTrue(ul.figures.write(ax, self.folder / name).read_bytes().startswith(begin))
        wide = [
            int.from_bytes(ul.figures.write(ax, self.folder / "f.png", dpi=d).read_bytes()[16:20], "big")
            for d in (150, 300)
        ]
        self.assertAlmostEqual(wide[1] / wide[0], 2.0, delta=0.01)
        for name, dpi, words in (("f.jpg", 300, "ends in none of"), ("f.png", 5, "20 to 2,400 dots")):
            with self.refused(ul.UltrumError, words):
                ul.figures.write(ax, self.folder / name, dpi=dpi)

    def test_a_panel_is_written_with_what_its_columns_are(self):
        panel = ul.practice.panel()
        files = ul.save(panel, self.folder / "p.csv", layout="long", periods="columns")
        self.assertEqual([f.name for f in files], ["p.csv", "p.csv-metadata.json"])
        read = pd.read_csv(files[0], converters={"excess_return": float})
        self.assertEqual(list(read.columns[:4]), ["year", "month", "asset", "excess_return"])
        np.testing.assert_allclose(read["excess_return"], panel.long()["excess_return"], rtol=1e-15)
        said = json.loads(files[1].read_text())
        self.assertEqual(said["@context"], "http://www.w3.org/ns/csvw")
        self.assertEqual([c["name"] for c in said["tableSchema"]["columns"]], list(read.columns))
        wide = ul.save(panel, self.folder / "w.csv")
        columns = {c["name"]: c for c in json.loads(wide[1].read_text())["tableSchema"]["columns"]}
        self.assertEqual(columns["period"]["datatype"], "gYearMonth")
        self.assertIn("return decimal", columns["BRTW"]["schema:unitText"])

    def test_series_to_every_kind_of_file(self):
        x = series([0.5, 1.5], freq="Q", measure="rate", name="x")
        self.assertEqual(
            pd.read_parquet(ul.save(x, self.folder / "x.parquet")[0]).iloc[1].tolist(), ["2010-Q2", 1.5]
        )
        back = ul.read_series(ul.save(x, self.folder / "x.xlsx")[0], units="decimal").series["x"]
        self.assertEqual(back.values.tolist(), [0.5, 1.5])
        long = pd.read_csv(ul.save(x.as_table(), self.folder / "l.csv", layout="long", periods="columns")[0])
        self.assertEqual(long.iloc[0].tolist(), [2010, 1, "x", 0.5])
        with self.refused(ul.UltrumError, "ends in none"):
            ul.save(x, self.folder / "x.doc")
        with self.refused(ul.UltrumError, "cannot be written"):
            ul.save(x, self.folder / "none" / "x.csv")
