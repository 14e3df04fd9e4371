"""Figures carry units, source and sample, and can be changed; exports are safe."""

import pandas as pd

import ultrum as ul
from tests.support import Scratch, series
from ultrum.present.export import to_csv, whole_folder


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

    def test_line_of_fit_goes_through_the_fit(self):
        fit = self.table.fit("BRTW")
        ax = ul.figures.line_of_fit(fit)
        x, y = ax.get_lines()[-1].get_data()
        slope = (y[-1] - y[0]) / (x[-1] - x[0])
        self.assertAlmostEqual(slope, fit.coefficients["market"], 9)
        self.assertIn("251 months", self.foot(ax))
        self.assertIn("% a month", ax.get_ylabel())

    def test_build_up_reaches_the_cost(self):
        cost = ul.cost_of_equity(self.table, premia={"market": 0.05}, risk_free=0.03)
        ax = ul.figures.build_up(cost, "BRTW")
        self.assertAlmostEqual(max(p.get_width() for p in ax.patches), 100 * cost.value["BRTW"], 9)
        with self.refused(ul.UltrumError, "'TIDE'", "BRTW"):
            ul.figures.build_up(cost, "TIDE")

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
        self.assertEqual(
            sorted(p.name for p in (self.folder / "r").iterdir()), [".ultrum", "two.txt"]
        )
