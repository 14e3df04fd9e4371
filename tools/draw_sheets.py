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
ul.figures.build_up(cost, "BRTW", source=source)
ul.figures.coverage_timeline(panel)
"""
SHEETS = {  # name of the sheet: page of the guide and figures of it, in order
    "figures": ("", ["line_of_fit", "betas", "build_up", "coverage_timeline"]),
    "shaping": ("shaping", ["through_time", "through_time", "bars", "small_multiples", "regions"]),
    "returns": ("returns_and_panels", ["risk_against_return", "histogram", "calendar_heat", "growth_of_one",
                                       "correlation_grid", "against_benchmark"]),
    "estimating": ("estimating", ["beta_path", "break_path", "predicted_against_realised"]),
    "cost_of_equity": ("cost_of_equity", ["build_up", "peers", "sensitivity"]),
}  # fmt: skip
WIDTH, GAP = 1280, 24


def code_of(page):
    """Python of a page of the guide, in order."""
    if not page:
        return FIRST
    return "\n".join(
        re.findall(r"```python\n(.*?)```", (DOCS / f"{page}.md").read_text(encoding="utf-8"), re.S)
    )


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
    """The figure of the axes, half a sheet wide."""
    image = Image.open(io.BytesIO(png_bytes(ax))).convert("RGB")
    return image.resize((WIDTH // 2, round(image.height * WIDTH / 2 / image.width)), Image.LANCZOS)


def sheet(pictures):
    """Two pictures a row, on white."""
    rows = [pictures[k : k + 2] for k in range(0, len(pictures), 2)]
    heights = [max(p.height for p in row) + GAP for row in rows]
    made = Image.new("RGB", (WIDTH, sum(heights)), "white")
    for number, row in enumerate(rows):
        for column, one in enumerate(row):
            made.paste(one, (column * WIDTH // 2, sum(heights[:number])))
    return made


def draw(name):
    """One sheet."""
    page, wanted = SHEETS[name]
    drawn = []
    code = compile("import ultrum as ul\n" + code_of(page), page or name, "exec")
    quiet = contextlib.redirect_stdout(io.StringIO())
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder), keeping(drawn), quiet:
        exec(code, {"__name__": name})
    pictures = []
    for function in wanted:
        place = next(k for k, (drawn_by, _) in enumerate(drawn) if drawn_by == function)
        pictures.append(picture(drawn.pop(place)[1]))
    sheet(pictures).quantize(256).save(DOCS / "screenshots" / f"{name}.png", optimize=True)


if __name__ == "__main__":
    mpl.use("Agg")
    for name in sys.argv[1:] or SHEETS:
        draw(name)
        print(DOCS / "screenshots" / f"{name}.png")
