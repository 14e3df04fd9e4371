"""The picture of docs/architecture.md, made from the imports: ``python tools/draw_architecture.py``.

Each layer is a box with its modules and lines of code; an arrow from a layer to a lower one counts the modules that
import it. Imports inside functions and for type checkers count too.
"""

import ast
from collections import Counter
from pathlib import Path

import matplotlib as mpl

mpl.use("Agg")
import matplotlib.pyplot as plt
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs" / "screenshots" / "architecture.png"
PLACES = {  # column and row of each layer, from the top
    "cli": (1, 0), "report": (1, 1), "study": (1, 2), "desk": (1, 3), "vault": (1, 4),
    "sources": (1, 5), "core": (1, 6), "practice": (0, 5), "large": (2.2, 5),
}  # fmt: skip
NOTES = {
    "cli": "parse, call, print", "report": "figures, tables, files, pages",
    "study": "the study file and its stages", "desk": "search, fetch, pull", "vault": "every download, with history",
    "sources": "HTTP, SDMX, tables, databases", "core": "computation only", "practice": "the made-up world",
    "large": "data larger than memory",
}  # fmt: skip


def layer_of(path):
    return path.relative_to(ROOT / "ultrum").parts[0].removesuffix(".py")


def imported(path):
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("ultrum."):
            yield node.module.split(".")[1]


def draw_arrow(ax, pair, centre, size, count):
    """Straight to the next layer and between columns; round the boxes on the right where layers are passed over."""
    (wide, high), (x0, y0), (x1, y1) = size, centre[pair[0]], centre[pair[1]]
    rows = PLACES[pair[1]][1] - PLACES[pair[0]][1]
    bend = 0.0
    if PLACES[pair[0]][0] != PLACES[pair[1]][0]:
        side = -1 if x1 < x0 else 1
        x0, y1 = x0 + side * wide / 2, y1 + (high / 2 if rows > 1 else 0.0)
        x1 = x1 if rows > 1 else x1 - side * wide / 2
    elif rows > 1:
        x0, x1, bend = x0 + wide / 2, x1 + wide / 2, -0.14 - 0.03 * rows
    else:
        y0, y1 = y0 - high / 2, y1 + high / 2
    ax.add_patch(FancyArrowPatch(
        (x0, y0), (x1, y1), arrowstyle="-|>", mutation_scale=10, connectionstyle=f"arc3,rad={bend}",
        linewidth=0.6 + min(count, 60) ** 0.5 / 3, color="#5b6b7a", alpha=0.8, zorder=1,
    ))  # fmt: skip


def main():
    files = [p for p in (ROOT / "ultrum").rglob("*.py") if layer_of(p) in PLACES]
    modules, lines, arrows = Counter(), Counter(), Counter()
    for path in files:
        own = layer_of(path)
        modules[own] += path.name != "__init__.py"
        lines[own] += len(path.read_text(encoding="utf-8").splitlines())
        arrows.update((own, other) for other in set(imported(path)) if other in PLACES and other != own)
    figure, ax = plt.subplots(figsize=(12.8, 8.0), dpi=100)
    figure.subplots_adjust(left=0.01, right=0.99, top=0.99, bottom=0.01)
    ax.set(xlim=(0.0, 3.15), ylim=(1.0, 8.35))
    ax.axis("off")
    wide, high = 0.84, 0.74
    centre = {n: (0.05 + c + wide / 2, 8.3 - r - high / 2) for n, (c, r) in PLACES.items()}
    for pair, count in sorted(arrows.items()):
        draw_arrow(ax, pair, centre, (wide, high), count)
    for name, (x, y) in centre.items():
        ax.add_patch(FancyBboxPatch((x - wide / 2, y - high / 2), wide, high, boxstyle="round,pad=0,rounding_size=0.05",
                                    facecolor="#eef3f7", edgecolor="#2f5d7e", linewidth=1.2, zorder=2))  # fmt: skip
        ax.text(x, y + 0.2, name, ha="center", va="center", fontsize=13, fontweight="bold", zorder=3)
        count = f"{max(modules[name], 1)} module{'s' if modules[name] > 1 else ''}, {lines[name]:,} lines"
        ax.text(x, y - 0.13, f"{NOTES[name]}\n{count}", ha="center", va="center", fontsize=9.5, zorder=3)
    ax.text(0.05, 1.1, "An arrow points from the importing layer to the imported one; it is wider where more modules import. "
            "errors and file_access, which every layer may import, are left out.", fontsize=9, color="#333333")  # fmt: skip
    figure.savefig(OUT, metadata={"Software": None})


if __name__ == "__main__":
    main()
