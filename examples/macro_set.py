"""A set of macroeconomic series: named once, pulled, refreshed when the data are revised, handed on."""

import ultrum as ul

three_economies = ul.SeriesSet.of(
    ["observatory:PRICES/M..CPI", "observatory:WAGES/M..TOTAL", "observatory:LABOUR/M.QM.UNEMP"],
    title="Prices, wages and work", span=["last 25 years"], frequency="Q", dates="common",
)  # fmt: skip
three_economies.save("three_economies.toml")

with (
    ul.practice.serve() as service,
    ul.Desk("macro-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    first = desk.pull(ul.SeriesSet.load("three_economies.toml"))
    print(first.status[["address", "status", "first", "last"]].to_string(index=False))

    service.add_fault("revised", "WAGES", times=-1)  # three months later, wages were revised
    again = desk.refresh(three_economies)
    print(again.status[["address", "status"]].to_string(index=False))
    print(desk.revisions("observatory:WAGES/M.QM.TOTAL").tail(3).to_string(index=False))

again.to_frame().to_csv("three_economies.csv")
print(again.to_frame().tail(3).T.to_string())
