"""How a volatility and a beta follow from the returns, step by step, and as a workbook with live formulas."""

import ultrum as ul

panel = ul.practice.panel()
asset = ul.TimeSeries.from_pandas(panel.assets["BRTW"].dropna(), measure="return", name="BRTW")
workings = ul.risk_return(asset).workings("BRTW")
print(workings.title)
print(workings.to_frame()[["step", "formula", "value"]].to_string(index=False))
fit = ul.factor_betas(panel, ["market"]).fit("BRTW")
print(fit.workings().to_frame().tail(3)[["step", "formula", "value"]].to_string(index=False))
ul.save(workings, "workings.xlsx")
print("written: workings.xlsx")
