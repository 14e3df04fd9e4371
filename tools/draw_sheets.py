"""Draws the sheets of figures in docs/screenshots anew, from the guide's own blocks and the practice world.

``python tools/draw_sheets.py [NAME ...]`` after a figure has changed; then look at each. Pictures of the report, of
terminals and of the site are taken by hand.
"""

import contextlib
import functools
import io
import re
import sys
import tempfile
from pathlib import Path

import matplotlib as mpl
from PIL import Image

import ultrum as ul
from ultrum.report.figures.figure_files import png_bytes

DOCS = Path(__file__).resolve().parent.parent / "docs"
FIRST = """
panel = ul.practice.panel()
betas = ul.factor_betas(panel, ["market"])
cost = ul.cost_of_equity(betas, premia={"market": ul.premium(panel.factor_table["market"])}, risk_free=0.0293)
source = "Lantern Sea Exchange, harbour college"
ul.figures.line_of_fit(betas.fit("BRTW"), source=source)
ul.figures.betas(betas, highlight="BRTW", source=source)
ul.figures.cost_components(cost, "BRTW", source=source)
ul.figures.coverage_timeline(panel)
"""
# name of a sheet: page of the guide, and rows of columns of figures; every row fills the width
SHEETS = {
    "first_beta": ("tutorial/first_beta", [[["line_of_fit"]]]),
    "figures": ("", [[["line_of_fit", "cost_components"], ["betas", "coverage_timeline"]]]),
    "shaping": ("shaping", [[["through_time"], ["through_time"]], [["bars", "small_multiples"], ["regions"]]]),
    "returns": ("returns_and_panels", [[["risk_against_return"], ["histogram"]], [["calendar_heat"], ["growth_of_one"]],
                                       [["correlation_grid"], ["against_benchmark"]]]),
    "estimating": ("estimating", [[["beta_path", "break_path"], ["predicted_against_realised"]]]),
    "portfolios": ("portfolios", [[["portfolio_means", "double_sort"], ["cumulative_spread", "exposures"]]]),
    "comparing": ("comparing", [[["squared_sharpe_ratios", "costs_side_by_side"], ["beta_forecast_errors"]]]),
    "cost_of_equity": ("cost_of_equity", [[["cost_components", "peers"], ["sensitivity"]]]),
}  # fmt: skip
WIDTH, GAP = 1280, 24


def code_of(page):
    """Python of a page of the guide, in order."""
    if not page:
        return FIRST
    text = (DOCS / f"{page}.md").read_text(encoding="utf-8")
    blocks = re.findall(r"```\{code-cell\} python\n(.*?)```", text, re.S)
    return "\n".join(re.sub(r"^:tags:.*\n", "", block) for block in blocks)


@contextlib.contextmanager
def keeping(drawn):
    """Let every figure that is drawn be kept, with the name of its function."""
    module, originals = ul.figures, {}
    for name in module.__all__:
        if not name.startswith("to_"):
            originals[name] = getattr(module, name)

            @functools.wraps(originals[name])
            def kept(*args, _name=name, **kwargs):
                made = originals[_name](*args, **kwargs)
                drawn.append((_name, made[0] if isinstance(made, list) else made))
                return made

            setattr(module, name, kept)
    try:
        yield
    finally:
        for name, original in originals.items():
            setattr(module, name, original)


def picture(ax):
    """The figure of the axes."""
    return Image.open(io.BytesIO(png_bytes(ax))).convert("RGB")


def row(columns):
    """Columns of pictures side by side, each as wide as makes all equally high."""
    slopes = [sum(p.height / p.width for p in column) for column in columns]
    room = WIDTH - GAP * (len(columns) - 1)
    height = room / sum(1 / s for s in slopes)
    made = Image.new("RGB", (WIDTH, round(height) + GAP * max(map(len, columns))), "white")
    left = 0
    for column, slope in zip(columns, slopes, strict=True):
        width, top = round(height / slope), 0
        for one in column:
            shown = one.resize((width, round(one.height * width / one.width)), Image.LANCZOS)
            made.paste(shown, (left, top))
            top += shown.height + GAP
        left += width + GAP
    return made


def sheet(rows):
    """Rows below each other, on white."""
    made = Image.new("RGB", (WIDTH, sum(r.height for r in rows)), "white")
    top = 0
    for one in rows:
        made.paste(one, (0, top))
        top += one.height
    return made


def draw(name):
    """One sheet."""
    page, wanted = SHEETS[name]
    drawn = []
    code = compile("import ultrum as ul\n" + code_of(page), page or name, "exec")
    quiet = contextlib.redirect_stdout(io.StringIO())
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder), keeping(drawn), quiet:
        exec(code, {"__name__": name})

    def taken(function):
        place = next(k for k, (drawn_by, _) in enumerate(drawn) if drawn_by == function)
        return picture(drawn.pop(place)[1])

    rows = [row([[taken(f) for f in column] for column in columns]) for columns in wanted]
    sheet(rows).quantize(256).save(DOCS / "screenshots" / f"{name}.png", optimize=True)


if __name__ == "__main__":
    mpl.use("Agg")
    for name in sys.argv[1:] or SHEETS:
        draw(name)
        print(DOCS / "screenshots" / f"{name}.png")
