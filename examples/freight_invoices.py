"""Freight invoices in three currencies, for any day, and rents of twelve provinces on a map."""

import pandas as pd

import ultrum as ul

invoices = pd.DataFrame({
    "date": ["2024-03-04", "2024-03-09", "2024-05-31", "2024-08-15"],
    "amount": [18_400.0, 2_150.0, 7_020.5, 990.0],
    "currency": ["QSR", "QTV", "QML", "QSR"],
})  # fmt: skip

with (
    ul.practice.serve() as service,
    ul.Desk("freight-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    pairs = ("QSR.QML", "QML.QTV", "QTV.QSR")  # quoted now one way, now the other
    quotes = [desk.fetch(f"observatory:FX/B.{pair}") for pair in pairs]
    minutes = desk.table("exchange:quotes_2024-11.csv", timezone="UTC", measure="quote").series
    rents = desk.table("council:rents/{region}.csv", expand={"region": [f"{k:02d}" for k in range(1, 13)]})
    shapes = desk.download("council", "provinces.geojson").body

rates = ul.ExchangeRates(quotes)
print(rates)
print(rates.matrix(on="2024-08-15").round(4).to_string())
print(rates.rate("QSR", "QTV", on="2024-03-10"))  # a Sunday: the last quotes before it
invoices["QML"] = rates.amount(invoices["amount"], invoices["currency"], "QML", on=invoices["date"])
print(invoices.round(2).to_string(index=False))
print(rates.last(3, "QTV", "QSR").round(4).to_string())

bars = ul.SeriesTable.of(s for n, s in minutes.items() if n != "volume")
days = ul.to_frequency(bars, "B", session_close="17:00")
print(days.to_pandas().tail(3).round(4).to_string())
ul.figures.to_png(ul.figures.bars(days, bands=ul.bands(days["close"], 10)), "quotes.png")

december = {code: series.values.iloc[-1] for code, series in rents.series.items()}
rented = ul.figures.regions(december, shapes, unit="QML for a\nsquare metre", title="Rents, December 2024")
ul.figures.to_png(rented, "rents.png")
