"""Three models side by side, written as a LaTeX file."""

from pathlib import Path

import ultrum as ul

panel = ul.practice.panel()
sets = {"CAPM": ["market"], "Three": ["market", "size", "value"], "Four": list(panel.factors)}
models = {name: ul.factor_betas(panel, factors).fit("BRTW") for name, factors in sets.items()}
table = ul.model_table(models, stars=True, title="Excess returns of BRTW")
print(table.to_text())
Path("brtw.tex").write_text(table.to_latex())
print("written: brtw.tex")
