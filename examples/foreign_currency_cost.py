"""A cost of equity in another currency: by expected inflation, and by the forward rate."""

import ultrum as ul

panel = ul.practice.panel()
betas = ul.factor_betas(panel, ["market"])
home = ul.cost_of_equity(betas, premia={"market": 0.055}, risk_free=panel.rate)
by_inflation = home.in_currency("QSR", inflation=(0.022, 0.018))
by_forward = home.in_currency("QSR", forward=(0.7259, 0.7288))
for name, cost in (("QML", home), ("QSR by inflation", by_inflation), ("QSR by forward", by_forward)):
    low, high = cost.interval().loc["BRTW", ["low", "high"]]
    value = 100 * cost.value["BRTW"]
    print(f"{name:18} {value:.2f} % per year ({100 * low:.2f} to {100 * high:.2f})")
