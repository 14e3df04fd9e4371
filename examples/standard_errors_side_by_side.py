"""One regression, six kinds of standard errors."""

import pandas as pd

import ultrum as ul

panel = ul.practice.panel()
y, market = panel.excess["BRTW"], panel.factor_table.select(["market"])
years = pd.Series(panel.assets.index.year, panel.assets.index)
choices = {
    "classical": {"errors": "classical"},
    "White (hc0)": {"errors": "hc0"},
    "hc3": {"errors": "hc3"},
    "Newey-West": {"errors": "hac"},
    "automatic lags": {"errors": "hac", "lags": "automatic"},
    "clustered by year": {"clusters": years},
}
rows = {}
for name, options in choices.items():
    rows[name] = ul.regress(y, market, **options).to_frame().loc["market"]
print("Market beta of BRTW:")
table = pd.DataFrame(rows).T[["coefficient", "standard_error", "low", "high"]]
print(table.astype(float).round(3).to_string())
