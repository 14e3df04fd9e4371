"""Data sets larger than memory, fed to `core` in blocks: long Parquet files sorted by asset and date."""

from ultrum.core.large_data import register_large
from ultrum.core.panel.alignment import align
from ultrum.core.pricing.factor_betas import factor_betas
from ultrum.core.pricing.two_pass import two_pass
from ultrum.core.regression.rolling_regression import rolling_regress
from ultrum.core.returns.price_returns import returns
from ultrum.large import block_returns, block_rolling, estimators, long_panel
from ultrum.large.long_panel import LongPanel
from ultrum.large.long_table import LongTable

__all__ = ["LongPanel", "LongTable"]

register_large(returns, LongTable, block_returns.returns)
register_large(align, LongTable, long_panel.align)
register_large(rolling_regress, LongTable, block_rolling.rolling_regress)
register_large(factor_betas, LongPanel, estimators.factor_betas)
register_large(two_pass, LongPanel, estimators.two_pass)
