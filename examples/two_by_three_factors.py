"""Factors of size and value rebuilt from 300 stocks each June, beside the true factors and their premia."""

import numpy as np

import ultrum as ul

world = ul.practice.stocks()
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
months = six.returns.index[::3]  # weights drift little from month to month
held = {month: six.weights(str(month)).T @ expected.loc[month] for month in months}
for name, formula, sign in (("size", "size low - size high", -1), ("value", "value high - value low", 1)):
    factor = ul.factor_from_portfolios(six, formula, name=name)
    net = ul.factor_from_portfolios(six, formula, trading_cost=0.005)
    of_group = {"low": 1, "high": six.groups[name]}
    long, short = (f"{name} {of_group[side.split()[1]]}" for side in formula.split(" - "))
    true = np.mean(
        [earned.filter(like=long).mean() - earned.filter(like=short).mean() for earned in held.values()]
    )
    premium = ul.premium(factor)
    alike = factor.to_pandas().corr(sign * world.factors[name].to_pandas())
    print(
        f"{name}: {100 * premium.value:.2f} % per year (standard error {100 * premium.standard_error:.2f}), "
        f"{1200 * net.to_pandas().mean():.2f} after costs; its stocks were expected to earn {1200 * true:.2f}; "
        f"correlation with the true factor {alike:.2f}"
    )
