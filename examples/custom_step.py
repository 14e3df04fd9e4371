"""A step of your own, used by its name as the built-in ones are, with its place in the trail."""

import ultrum as ul
from ultrum.core.transform.steps import apply_steps


def winsorise(x, share=0.01):
    """Values beyond the lowest and highest share are set to its bounds."""
    values = x.to_pandas()
    low, high = values.quantile([share, 1 - share])
    metadata = x.metadata.add_step("winsorise", share=share)
    return ul.TimeSeries.from_arrays(values.clip(low, high).to_numpy(), x.index, metadata)


ul.add_step(winsorise, main="share")
market = ul.practice.panel().factor_table["market"]
cut = apply_steps(market, [{"winsorise": 0.05}])
for name, series in (("as downloaded", market), ("winsorised", cut)):
    values = 100 * series.to_pandas()
    print(f"{name:14} lowest {values.min():6.2f} %, highest {values.max():6.2f} %")
print("trail:", "; ".join(map(str, cut.metadata.trail)))
