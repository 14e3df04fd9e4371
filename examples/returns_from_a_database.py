"""Prices out of a SQL database, with the roles of the columns set, to monthly total returns."""

import sqlite3

import ultrum as ul

with (
    ul.practice.serve() as service,
    ul.Desk("files-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    bars = desk.table("exchange:prices.csv").records
    dividends = desk.table("exchange:dividends.csv", records_only=True).records

with sqlite3.connect("prices.sqlite") as book:  # a database as an office may keep one
    bars.assign(date=bars["date"].dt.strftime("%Y-%m-%d")).to_sql("bars", book, index=False, if_exists="replace")

tide = "SELECT date, asset, currency, close FROM bars WHERE asset IN ('BRTW', 'EBMK', 'SLTM') AND date >= '2019'"
office = {"kind": "database", "url": "sqlite:///prices.sqlite",
          "queries": {"tide": {"sql": tide, "date": "date", "key": "asset"}}}  # fmt: skip
with ul.Desk("office-vault", sources={"office": office}) as desk:
    close = desk.table("office:tide").fields["close"]

returns = ul.returns(close, frequency="M", dividends=dividends)
print(returns)
print((1 + returns.values).prod().sub(1).round(3).rename("total return, 2019 to 2024"))
