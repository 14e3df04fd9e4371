"""Checks what a study writes with other people's programs; run by hand, not by the tests.

``python tools/check_outputs.py [FOLDER]`` runs the shipped study that uses every section, then: the report through
html-validate and axe-core (npm packages, found in FOLDER/node_modules) in headless Chromium, the workbook through
LibreOffice and back, the LaTeX tables through pdflatex, the CSV files against their metadata. A program that is not on
this machine is said to be missing, and the exit code is 1; a fault makes it 2.
"""

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import warnings
from pathlib import Path

import pandas as pd
import python_calamine

import ultrum as ul
from ultrum.report.result_files import write_results

STUDY = Path(ul.practice.__file__).parent / "studies" / "allowed_return.toml"


def main(words):
    modules = Path(words[0] if words else ".").resolve() / "node_modules"
    warnings.simplefilter("ignore", ul.DataWarning)
    with tempfile.TemporaryDirectory() as work, ul.practice.serve() as service:
        folder = Path(work)
        study = ul.Study.load(STUDY).with_sources_at(service.places)
        write_results(ul.run_study(study, vault=folder / "vault"), folder / "out")
        out = folder / "out"
        found = {
            "HTML (html-validate)": html_faults(out / "report.html", modules),
            "accessibility (axe-core)": axe_faults(out / "report.html", modules, folder),
            "workbook (LibreOffice)": workbook_faults(out / "results.xlsx", folder),
            "LaTeX (pdflatex)": latex_faults(sorted((out / "tables").glob("*.tex")), folder),
            "CSV metadata": csv_faults(out / "tables"),
        }
    for name, faults in found.items():
        said = "missing program" if faults is None else f"{len(faults)} faults" if faults else "no fault"
        print(f"{name:28s} {said}")
        for fault in faults or []:
            print(f"    {fault}")
    return 2 if any(found.values()) else 1 if None in found.values() else 0


def html_faults(page, modules):
    if not (modules / "html-validate").exists():
        return None
    said = page.with_name(".htmlvalidate.json")
    said.write_text(json.dumps({"root": True, "extends": ["html-validate:standard"],
                                "rules": {"no-inline-style": "off", "long-title": "off"}}))  # fmt: skip
    done = subprocess.run(
        ["node", str(modules / "html-validate" / "bin" / "html-validate.mjs"), "--formatter", "json", page.name],
        capture_output=True, text=True, cwd=page.parent, check=False,
    )  # fmt: skip
    said.unlink()
    reports = json.loads(done.stdout or "[]")
    return [f"{m['line']}: {m['ruleId']}: {m['message']}" for r in reports for m in r["messages"]]


def axe_faults(page, modules, folder):
    script, browser = modules / "axe-core" / "axe.min.js", shutil.which("chromium")
    if not script.exists() or browser is None:
        return None
    run = (
        "axe.run().then(r => { const p = document.createElement('pre'); p.id = 'found';"
        "p.textContent = JSON.stringify(r.violations.map(v => [v.id, v.help, v.nodes.length, v.nodes[0].html]));"
        "document.body.appendChild(p); });"
    )
    probe = folder / "probe.html"
    text = page.read_text()
    tail = f"<script>{script.read_text()}</script><script>{run}</script></body>"
    probe.write_text(text.replace("</body>", tail))
    done = subprocess.run(
        [browser, "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=60000", "--dump-dom",
         f"--user-data-dir={folder / 'profile'}", probe.as_uri()],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    found = re.search(r'<pre id="found">(.*?)</pre>', done.stdout, re.S)
    if not found:
        return ["axe-core gave no answer"]
    import html

    return [f"{v[0]}: {v[1]} ({v[2]} places), such as {v[3][:120]}" for v in json.loads(html.unescape(found[1]))]


def workbook_faults(book, folder):
    office = shutil.which("soffice") or shutil.which("libreoffice")
    if office is None:
        return None
    again = folder / "again"
    subprocess.run(
        [office, f"-env:UserInstallation={(folder / 'office').as_uri()}", "--headless", "--convert-to", "xlsx:Calc MS Excel 2007 XML",
         "--outdir", str(again), str(book)],
        capture_output=True, check=False, env={**os.environ, "HOME": str(folder)},
    )  # fmt: skip
    if not (again / book.name).exists():
        return ["LibreOffice did not open it"]
    faults = []
    one, two = (python_calamine.CalamineWorkbook.from_path(p) for p in (book, again / book.name))
    if one.sheet_names != two.sheet_names:
        faults.append(f"sheets {one.sheet_names} came back as {two.sheet_names}")
    for name in one.sheet_names:
        a, b = one.get_sheet_by_name(name).to_python(), two.get_sheet_by_name(name).to_python()
        for row, (left, right) in enumerate(zip(a, b, strict=False)):
            for column, (x, y) in enumerate(zip(left, right, strict=False)):
                near = isinstance(x, float) and isinstance(y, float) and abs(x - y) <= 1e-12 * max(1, abs(x))
                if x != y and not near:
                    faults.append(f"{name} row {row + 1} column {column + 1}: {x!r} came back as {y!r}")
    return faults[:20]


def latex_faults(files, folder):
    latex = shutil.which("pdflatex")
    if latex is None:
        return None
    body = "\n\n".join(f"\\section*{{{f.stem.replace('_', ' ')}}}\n{f.read_text()}" for f in files)
    page = folder / "tables.tex"
    head = "\\documentclass{article}\\usepackage[utf8]{inputenc}\\usepackage[T1]{fontenc}\\usepackage{booktabs}\n"
    page.write_text(head + "\\begin{document}\\tiny\n" + body + "\n\\end{document}\n")
    done = subprocess.run(
        [latex, "-interaction=nonstopmode", "-halt-on-error", page.name], capture_output=True, text=True,
        cwd=folder, check=False,
    )  # fmt: skip
    errors = [line for line in done.stdout.splitlines() if line.startswith("!")]
    return errors or ([] if done.returncode == 0 else ["pdflatex failed"])


def csv_faults(folder):
    """Each file has the columns its metadata say, of the kind they say."""
    faults = []
    for said in folder.glob("*-metadata.json"):
        facts = json.loads(said.read_text())
        table = pd.read_csv(
            folder / facts["url"], sep=facts["dialect"]["delimiter"], keep_default_na=False, dtype=str
        )
        columns = facts["tableSchema"]["columns"]
        if [c["name"] for c in columns] != list(table.columns):
            faults.append(f"{facts['url']}: columns differ")
            continue
        for column in columns:
            values = table[column["name"]]
            if (
                column["datatype"] == "number"
                and pd.to_numeric(values[values != ""], errors="coerce").isna().any()
            ):
                faults.append(f"{facts['url']}: {column['name']} is said to be a number and is not")
    return faults


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
