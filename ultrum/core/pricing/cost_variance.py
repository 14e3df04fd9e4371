"""The variance of a cost of equity, from the errors of betas and premia."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ultrum.core.array_types import Floats
from ultrum.core.pricing.cost_result import RISK_FREE
from ultrum.core.pricing.one_beta import OneBeta
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.time.period_labels import period_label


@dataclass(frozen=True)
class Exposures:
    """Betas of any kind: (N,K) with covariances (N,K,K), and what they rest on."""

    assets: pd.Index
    factors: list[str]
    beta: Floats
    covariance: Floats
    df: Floats
    errors: str
    sample: Mapping[str, str]
    end: Any

    @classmethod
    def of(cls, betas: BetaTable | OneBeta) -> Exposures:
        """From a table of regressions, or one beta of each asset."""
        if isinstance(betas, OneBeta):
            names = betas.beta.index
            return cls(
                assets=names,
                factors=[str(betas.beta.name)],
                beta=betas.beta.to_numpy()[:, None],
                covariance=betas.standard_error.to_numpy()[:, None, None] ** 2,
                df=betas.nobs.to_numpy() - 2.0,
                errors=betas.errors,
                sample=dict.fromkeys(map(str, names), betas.basis),
                end=betas.end,
            )
        factors = [str(t) for t in betas.coefficients.columns if t != CONSTANT]
        where = betas.coefficients.columns.get_indexer(pd.Index(factors))
        first, last = betas.first, betas.last
        return cls(
            assets=betas.coefficients.index,
            factors=factors,
            beta=betas.coefficients[factors].to_numpy(),
            covariance=betas.covariance[:, where][:, :, where],
            df=betas.df.to_numpy(dtype=np.float64),
            errors=betas.errors,
            sample={str(a): f"{period_label(first[a])} to {period_label(last[a])}" for a in betas.assets},
            end=betas.response.index[-1],
        )


@dataclass(frozen=True)
class CostVariance:
    """Goodman's variance, by factor (N,K), and by where it comes from (N,)."""

    by_factor: Floats
    beta: Floats
    premium: Floats
    rate: float

    @classmethod
    def of(cls, exposures: Exposures, lam: Floats, spread: Floats, rate: float) -> CostVariance:
        """β'Vλβ + λ'Vβλ − tr(VβVλ), with the variance of the rate added."""
        from_premium = exposures.beta * (exposures.beta @ spread)
        from_beta = lam * np.einsum("nkl,l->nk", exposures.covariance, lam)
        both = np.einsum("nkl,lk->nk", exposures.covariance, spread)
        half = both.sum(axis=1) / 2.0
        return cls(
            from_premium + from_beta - both,
            from_beta.sum(axis=1) - half,
            from_premium.sum(axis=1) - half,
            rate,
        )

    @property
    def total(self) -> Floats:
        """Of each asset, (N,)."""
        return np.asarray(self.by_factor.sum(axis=1) + self.rate)

    def shares(self, assets: pd.Index) -> pd.DataFrame:
        """Of beta, premium and risk-free rate; missing where the variance is not positive."""
        whole = np.where(self.total > 0, self.total, np.nan)
        columns = {
            "beta": self.beta / whole,
            "premium": self.premium / whole,
            RISK_FREE: self.rate / whole,
        }
        return pd.DataFrame(columns, assets)
