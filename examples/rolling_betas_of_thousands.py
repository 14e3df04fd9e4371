"""Rolling betas of 3,000 stocks over 30 years: time, and how well they find the truth."""

import time

import numpy as np
import pandas as pd

import ultrum as ul

draw = np.random.default_rng(1)
months = pd.period_range("1995-01", periods=360, freq="M")
market = pd.Series(draw.normal(0.005, 0.045, 360), months, name="market")
truth = draw.uniform(0.4, 1.6, 3000)
noise = draw.normal(0, 0.08, (360, 3000))
returns = pd.DataFrame(np.outer(market, truth) + noise, months).rename(columns="S{:04d}".format)

started = time.perf_counter()
rolled = ul.rolling_regress(returns, market, window=60)
betas = rolled.frame()
print(f"{betas.notna().to_numpy().sum():,} regressions in {time.perf_counter() - started:.1f} s")
error = betas.iloc[-1].to_numpy() - truth
print(f"last window: mean error {error.mean():.3f}, root mean square {np.sqrt((error**2).mean()):.3f}")
print(betas.iloc[-3:, :5].round(2).to_string())
