"""Value quintiles of 300 stocks: what each formation left out, alphas, and tests of the pattern."""

import ultrum as ul

world = ul.practice.stocks()
quintiles = ul.sort_portfolios(
    world.returns,
    {"value": world.book_to_market},
    groups=5,
    universe=world.members,
    delisting_returns=world.delisting_returns,
)
print(quintiles)
print(quintiles.left_out["reason"].value_counts().to_string())

table = ul.portfolio_table(quintiles, world.market, world.risk_free, spread="value high - value low")
print(table)
print(ul.monotonicity_tests(quintiles.returns))
