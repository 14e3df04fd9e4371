"""Growth of time and memory with assets, dates and factors

Rolling windows of 60 months with classical errors, and the panel regression with Newey–West errors; each point is a process
of its own. Twice as much data should take twice the time: the last column says by what power time grows.
"""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np

FIGURE = Path(__file__).parent.parent / "docs" / "screenshots" / "growth.png"
BASE = {"assets": 1000, "months": 480, "factors": 3}
LINES = {"assets": (500, 1000, 2000, 4000, 8000), "months": (120, 240, 480, 960), "factors": (1, 3, 6, 10)}
_POINT = """
import json, sys, time
import numpy as np, pandas as pd, ultrum as ul
said = json.loads(sys.argv[1])
rng = np.random.default_rng(0)
index = pd.period_range("1930-01", periods=said["months"], freq="M")
F = pd.DataFrame(rng.normal(0, 0.04, (said["months"], said["factors"])), index)
Y = F.to_numpy() @ rng.normal(0.5, 0.3, (said["factors"], said["assets"]))
Y += rng.normal(0, 0.08, Y.shape)
Y[rng.random(Y.shape) < 0.05] = np.nan
Y = pd.DataFrame(Y, index)
def held(word):
    return next(int(l.split()[1]) / 1024 for l in open("/proc/self/status") if l.startswith(word))
before = held("VmRSS")
took = {}
for name, work in (
    ("rolling", lambda: ul.rolling_regress(Y, F, window=60)),
    ("panel", lambda: ul.regress(Y, F, errors="hac")),
):
    times = []
    for _ in range(3):
        start = time.perf_counter()
        made = work()
        times.append(time.perf_counter() - start)
        del made
    took[name] = min(times)
print(json.dumps({**took, "memory": held("VmHWM") - before}))
"""


def point(said):
    made = subprocess.run(
        [sys.executable, "-c", _POINT, json.dumps(said)], capture_output=True, text=True, check=True
    )
    return json.loads(made.stdout)


def run():
    found = {name: [point({**BASE, name: size}) for size in sizes] for name, sizes in LINES.items()}
    draw(found)
    lines = ["| with | from | to | rolling, s | panel, s | memory over input, MB | power of rolling |",
             "|---|---:|---:|---|---|---|---:|"]  # fmt: skip
    for name, sizes in LINES.items():
        rows = found[name]
        cells = [
            " → ".join(f"{rows[k][what]:.{digits}f}" for k in (0, -1))
            for what, digits in (("rolling", 3), ("panel", 3), ("memory", 0))
        ]
        power = np.polyfit(np.log(sizes), np.log([r["rolling"] for r in rows]), 1)[0]
        lines.append(f"| {name} | {sizes[0]:,} | {sizes[-1]:,} | {' | '.join(cells)} | {power:.2f} |")
    base = f"{BASE['assets']:,} assets, {BASE['months']} months, {BASE['factors']} factors"
    return "\n".join([*lines, f"\nWhere nothing else is said: {base}. ![growth](screenshots/growth.png)"])


def draw(found):
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot as plt
    from matplotlib.ticker import LogLocator

    figure, axes = plt.subplots(2, 3, figsize=(12.8, 7.2), sharey="row", layout="constrained")
    for column, (name, sizes) in enumerate(LINES.items()):
        top, bottom = axes[:, column]
        for what, mark in (("rolling", "o-"), ("panel", "s--")):
            top.loglog(sizes, [r[what] for r in found[name]], mark, label=what)
        bottom.loglog(sizes, [r["memory"] for r in found[name]], "o-", color="dimgray")
        for axis in (top, bottom):
            axis.set_xticks(sizes, [f"{s:,}" for s in sizes])
            axis.minorticks_off()
            axis.yaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
            axis.yaxis.set_major_formatter("{x:g}")
            axis.grid(alpha=0.3)
        bottom.set_xlabel(name)
    axes[0, 0].set_ylabel("seconds, best of three")
    axes[1, 0].set_ylabel("most memory over the input, MB")
    axes[0, 0].legend(frameon=False)
    base = f"{BASE['assets']:,} assets, {BASE['months']} months, {BASE['factors']} factors"
    figure.suptitle(f"Growth of time and memory, the rest held at {base}; both scales logarithmic")
    figure.savefig(FIGURE, dpi=100)
    plt.close(figure)
