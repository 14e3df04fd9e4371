"""Factor regressions from download to result: betas, premia and costs of equity on panels without look-ahead.

The map: get data (`Desk`, `read_series`), shape them (`to_frequency`, `disaggregate`, `growth`,
`rebase`, `deflate`, `splice`, `composite`, `spells` …), change currencies (`ExchangeRates`, `to_currency`),
make returns (`returns`, `excess`, `yield_to_return`), look at them (`risk_return`, `calendar_returns`,
`momentum` …), line them up (`align`), estimate (`regress`,
`factor_betas`, `cost_of_equity`), or describe the whole job in a study file (`run_study`). `practice` is a
made-up world to try everything on. Names are imported when first used.
"""

import lazy_loader

__version__ = "0.1.0"

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
