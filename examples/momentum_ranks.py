"""Industry portfolios ranked by their returns of the last 3, 6 and 12 months, the last month left out."""

import pandas as pd

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("momentum-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    close = desk.table("exchange:prices.csv").fields["close"]
    companies = desk.table("exchange:companies.csv", records_only=True).records
    paid = desk.table("exchange:dividends.csv", records_only=True).records
    splits = desk.table("exchange:splits.csv", records_only=True).records

home = [a.name for a in close.metadata if a.currency in ("", "QML")]
returns = ul.returns(close.select(home), frequency="M", dividends=paid[paid["asset"].isin(home)], splits=splits)
industry = dict(zip(companies["asset"], companies["industry"], strict=True))
portfolios = ul.SeriesTable.of(
    ul.portfolio(returns.select([a for a in home if industry[a] == name]), name=name)
    for name in sorted(set(industry.values()))
)
ranked = ul.momentum(portfolios, ["P3M", "P6M", "P12M"], skip="P1M")
print(ranked)

best = ranked.ranks.eq(1).shift(1, fill_value=False)  # held in the month after it was first
earned = portfolios.values.where(best).mean(axis=1).dropna()
alike = portfolios.values.mean(axis=1)
print(f"Holding the first: {12 * earned.mean():.1%} a year, all alike {12 * alike.mean():.1%}")
print(pd.Series(ranked.ranks.eq(1).sum(), name="months first").to_string())
ul.figures.to_png(ul.figures.growth_of_one(portfolios, title="Industries, growth of one"), "industries.png")
