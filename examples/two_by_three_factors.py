"""Factors of size and value from six portfolios formed each June, and how close they come to the true premia."""

import numpy as np

import ultrum as ul

world = ul.practice.stocks(count=500)
six = ul.sort_portfolios(
    world.returns,
    {"size": world.market_values, "value": world.book_to_market},
    groups={"size": 2, "value": (0.3, 0.7)},
    weights=world.market_values,
    formation="A-JUN",
    universe=world.members,
    delisting_returns=world.delisting_returns,
)
expected = world.expected.to_pandas().fillna(0.0)
for name, formula in (("size", "size low - size high"), ("value", "value high - value low")):
    gross = ul.factor_from_portfolios(six, formula, name=name)
    net = ul.factor_from_portfolios(six, formula, trading_cost=0.005)
    low, high = formula.split(" - ")
    of_group = {"low": 1, "high": six.groups[name]}
    longs, shorts = (f"{name} {of_group[side.split()[1]]}" for side in (low, high))
    true = np.mean(
        [
            six.weights(str(month)).filter(like=longs).mean(axis=1) @ expected.loc[month]
            - six.weights(str(month)).filter(like=shorts).mean(axis=1) @ expected.loc[month]
            for month in gross.index
        ]
    )
    premium = ul.premium(gross)
    print(
        f"{name}: {100 * premium.value:.2f} % per year (standard error {100 * premium.standard_error:.2f}), "
        f"{1200 * net.to_pandas().mean():.2f} after costs; its stocks were expected to earn {1200 * true:.2f}"
    )
