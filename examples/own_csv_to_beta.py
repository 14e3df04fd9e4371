"""From two CSV files of your own to a beta, a figure and a study; see docs/tutorial/first_beta.md."""

from pathlib import Path

import numpy as np
import pandas as pd

import ultrum as ul

draw = np.random.default_rng(1)
days = pd.bdate_range("2015-01-01", "2024-12-31")
market = draw.normal(0.0004, 0.01, len(days))
close = 100 * np.exp(np.cumsum(1.2 * market + draw.normal(0, 0.012, len(days))))
pd.DataFrame({"Adj Close": close}, days).round(2).rename_axis("Date").to_csv("KELP.csv")
month = 100 * (np.exp(pd.Series(market, days).groupby(days.to_period("M")).sum()) - 1)
table = pd.DataFrame({"market": month - 0.15, "RF": 0.15}).round(2).rename_axis("month")
Path("factors.csv").write_text(f"Returns in percent a month.\n\n{table.to_csv()}")

prices = ul.read_series("KELP.csv").series["Adj Close"].with_metadata(name="KELP")
factors = ul.read_series("factors.csv", measure="return").series
panel = ul.align(
    assets=ul.returns(prices, frequency="M").as_table(),
    factors=factors["market"].with_metadata(excess_of="RF"),
    risk_free=factors["RF"],
)
fit = ul.factor_betas(panel).fit("KELP")
print("Market beta of KELP, made with 1.2:")
print(fit)
ul.figures.to_png(ul.figures.line_of_fit(fit), "kelp.png")
