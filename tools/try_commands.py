"""Run the shell commands of README and docs, page by page, in the environment that runs this file.

``python tools/try_commands.py`` after ``pip install .`` runs the README's commands on own files, ``python tools/try_commands.py
practice`` after ``pip install '.[practice]'`` every other one. Each page has a folder of its own with the files it speaks of.
"""

import contextlib
import datetime
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BLOCK = re.compile(r"^```sh\n(.*?)^```$", re.M | re.S)
INDENTED = re.compile(r"(?:^    .*\n)+", re.M)
CELL = re.compile(r"^```\{code-cell\} python\n(.*?)^```$", re.M | re.S)
OWN_FILES = ("README.md", "first_beta.md", "own_files.md")  # pages that need nothing but the package
BY_CI = ("ultrum demo",)  # .ci/run has these lines of the README word for word


def commands_of(page):
    """The lines of a page that call ``ultrum``, those that a backslash continues in one."""
    text = page.read_text()
    blocks = BLOCK.findall(text) + [re.sub("^    ", "", block, flags=re.M) for block in INDENTED.findall(text)]
    lines = "\n".join(blocks).replace("\\\n", " ").splitlines()
    # A vault remembers from its first download on: the past day of a page is the first day here.
    today = f"--at {datetime.datetime.now(datetime.UTC).date()}"
    lines = [line.partition("  #")[0].strip().replace("--at 2024-03-31", today) for line in lines]
    calls = [line for line in lines if line.startswith("ultrum ")]
    return [call for call in calls if call not in BY_CI]


def needs_services(page, call):
    """Whether a command needs the practice services; without them it runs on what ``pip install .`` installs."""
    own_files = call.startswith(("ultrum estimate", "ultrum new kelp.toml", "ultrum run kelp.toml"))
    return page.name not in OWN_FILES or not own_files


def write_files(folder):
    """The tutorial's two files, by its own code, and others made from them."""
    first = CELL.findall((ROOT / "docs/tutorial/first_beta.md").read_text())[0]
    with contextlib.chdir(folder):
        exec(first.partition("\n\n")[2], {})  # the page's own code
        rows = [line.split(",") for line in Path("KELP.csv").read_text().splitlines()]
        close = rows[0].index("Close")
        lines = [f"{date},{row[close - 1]},{100 + k % 7}" for k, (date, *row) in enumerate(rows[1:])]
        Path("prices.csv").write_text("\n".join(["Date,KELP,WRACK", *lines]))
        Path("dividends.csv").write_text("asset,date,amount\nKELP,2020-03-02,1.5\nKELP,2021-03-01,1.5\n")


def write_practice_files(folder, services):
    """Settings of a service, and the studies that pages run."""
    import pandas as pd

    import ultrum as ul

    world = ul.practice.stocks(count=60)
    columns = {
        "return": world.returns,
        "market_value": world.market_values,
        "book_to_market": world.book_to_market,
    }
    stocks = pd.concat({name: one.to_pandas().stack() for name, one in columns.items()}, axis=1)
    stocks.rename_axis(["month", "stock"]).to_csv(folder / "stocks.csv")
    url = services.places["observatory"]
    (folder / "ultrum.toml").write_text(f'[sources.statistics]\nkind = "sdmx"\nurl = "{url}"\n')
    study = ul.practice.demo_study().read_text().replace("http://127.0.0.1:8765/sdmx", url)
    for name in ("allowed.toml", "brtw.toml"):
        (folder / name).write_text(study.replace("http://127.0.0.1:8765", url.removesuffix("/sdmx")))


def run(page, calls, folder, home):
    """Run commands in one folder; those that fail, with what they printed."""
    failed = []
    own = {"XDG_DATA_HOME": home, "XDG_CONFIG_HOME": home}  # a vault that the pages share, not the user's
    environment = os.environ | own | {"PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}
    for call in calls:
        done = subprocess.run(call, shell=True, cwd=folder, env=environment, capture_output=True, text=True)
        print(f"{'ok    ' if done.returncode == 0 else 'FAILED'} {page.relative_to(ROOT)}: {call}", flush=True)
        if done.returncode:
            failed.append(done.stdout[-1500:] + done.stderr[-1500:])
    return failed


def main(practice):
    """Every page; the exit code is 1 if a command failed, or none was there."""
    pages = {page: commands_of(page) for page in [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]}
    failed, seen = [], set()
    with contextlib.ExitStack() as stack:
        services, home = None, stack.enter_context(tempfile.TemporaryDirectory())
        if practice:
            import ultrum as ul

            services = stack.enter_context(ul.practice.serve())
        for page, calls in pages.items():
            chosen = [call for call in calls if needs_services(page, call) == practice]
            if not seen.issuperset(chosen):  # pages that repeat the commands of another are tried once
                folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
                write_files(folder)
                if practice:
                    write_practice_files(folder, services)
                failed += run(page, chosen, folder, home)
                seen.update(chosen)
    print(f"{len(seen)} commands, {len(failed)} failed", *failed, sep="\n")
    return int(bool(failed) or not seen)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:] == ["practice"]))
