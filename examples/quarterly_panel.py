"""A quarterly macro panel as it was known at the time, written for other statistical software."""

from pathlib import Path

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("quarter-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    output = desk.fetch("observatory:OUTPUT/Q.QM.GDP")
    unemployment = desk.fetch("observatory:LABOUR/M.QM.UNEMP").described(name="unemployment")
    prices = desk.fetch("observatory:PRICES/M.QM.CPI")
    vintages = desk.table("archive:vintages.csv", records_only=True, date_column="released").records

growth = ul.growth(output, over="P1Y").described(name="output_growth")
inflation = ul.growth(prices, over="P1Y").described(name="inflation")
monthly = ul.practice.panel()
assets = ul.to_frequency(
    ul.SeriesTable(monthly.assets, tuple(monthly.about[n] for n in monthly.assets)), "Q"
)
factors = ul.to_frequency(monthly.factor_table, "Q", risk_free=monthly.rate)

own = vintages[(vintages["flow"] == "OUTPUT") & (vintages["key"] == "Q.QM.GDP")]
dates = own.groupby("period")["date"].min()  # when each quarter was first published
panel = ul.align(
    assets=assets, factors=factors, risk_free=ul.to_frequency(monthly.rate, "Q"), frequency="Q",
    conditions=[growth, unemployment, inflation],
    known_by={"output_growth": dates, "unemployment": "P1M", "inflation": "release lag"},
)  # fmt: skip
print(panel)
print(panel.coverage.loc[["output_growth", "unemployment", "inflation"]].to_string())

long = panel.long()
long.insert(0, "year", long["period"].dt.year)
long.insert(1, "quarter", long["period"].dt.quarter)
long.drop(columns="period").to_csv("quarterly_panel.csv", index=False)
print(Path("quarterly_panel.csv").read_text().splitlines()[0])
