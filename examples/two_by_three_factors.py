"""The college's factors of size and value rebuilt each June from 1,000 stocks that move with them."""

import numpy as np

import ultrum as ul

world = ul.practice.stocks(1000, college_factors=True)
published = ul.practice.panel().factors
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
for name, formula in (("size", "size low - size high"), ("value", "value high - value low")):
    factor = ul.factor_from_portfolios(six, formula, name=name)
    net = ul.factor_from_portfolios(six, formula, trading_cost=0.005)
    of_group = {"low": 1, "high": six.groups[name]}
    long, short = (f"{name} {of_group[side.split()[1]]}" for side in formula.split(" - "))
    true = np.mean(
        [earned.filter(like=long).mean() - earned.filter(like=short).mean() for earned in held.values()]
    )
    premium = ul.premium(factor)
    alike = factor.to_pandas().corr(published[name])
    print(
        f"{name}: {100 * premium.value:.2f} % per year (standard error {100 * premium.standard_error:.2f}), "
        f"{1200 * net.to_pandas().mean():.2f} after costs; its stocks were expected to earn {1200 * true:.2f}; "
        f"correlation with the college's factor {alike:.2f}"
    )
