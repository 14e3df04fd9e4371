"""Data sets larger than memory, processed by `core` in blocks: long Parquet files sorted by asset and date."""

from ultrum.core.arguments import register_large
from ultrum.core.panel.alignment import align
from ultrum.core.portfolios.sorted_portfolios import sort_portfolios
from ultrum.core.pricing.factor_betas_and_shrinkage import factor_betas
from ultrum.core.pricing.two_pass import two_pass
from ultrum.core.regression.rolling_regression import rolling_regress
from ultrum.core.returns.price_log_and_excess_returns import returns
from ultrum.large import block_estimates, long_panel
from ultrum.large.long_panel import LongPanel
from ultrum.large.long_table import LongTable

__all__ = ["LongPanel", "LongTable"]

register_large(returns, LongTable, block_estimates.returns)
register_large(align, LongTable, long_panel.align)
register_large(rolling_regress, LongTable, block_estimates.rolling_regress)
register_large(factor_betas, LongPanel, block_estimates.factor_betas)
register_large(sort_portfolios, LongTable, block_estimates.sort_portfolios)
register_large(two_pass, LongPanel, block_estimates.two_pass)
