"""Factor regressions from download to result: betas, premia and costs of equity on panels without look-ahead.

The map: get data (`Desk`, `read_series`), transform them (`to_frequency`, `disaggregate`, `growth`, `rebase`,
`deflate`, `splice`, `composite`, `spells` …), convert currencies (`ExchangeRates`, `to_currency`), compute
returns (`returns`, `excess`, `yield_to_return`), describe them (`risk_return`, `calendar_returns`, `momentum` …),
align them (`align`), estimate (`regress`, `factor_betas`, `cost_of_equity`), or put the whole job into a study
file (`run_study`). `practice` is a synthetic world of data for examples. Names are imported on first use.
"""

import logging

import lazy_loader

logging.getLogger(__name__).addHandler(logging.NullHandler())  # silent until the user asks for a log

__version__ = "0.1.0"

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
