"""Instrumental-variables risk premia of single stocks: betas of odd months as instruments for even ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Floats
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import p_equals
from ultrum.core.pricing.cross_sections import WINDOW
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factors
from ultrum.core.pricing.two_pass_result import WEAK
from ultrum.core.pricing.two_pass_standard_errors import equal_betas_test
from ultrum.core.regression.inference import CoefficientInference
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.core.regression.rolling_regression import rolling_regress
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, warn_user

_FEWEST: Final = 24  # cross-sections


@dataclass(frozen=True, eq=False, repr=False)
class InstrumentedPremia(CoefficientInference):
    """Premia per period with their standard errors.

    Attributes
    ----------
    coefficients : Series
        Constant and premium of each factor, decimal per period.
    covariance : DataFrame
    first_stage : Series
        Correlation across assets of odd-month with even-month betas, averaged over the cross-sections, by factor.
    rows : int
        Cross-sections.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> made = instrumented_premia(ul.practice.panel(), ["market"])
    >>> made.coefficients.round(4).to_dict(), made.first_stage.round(2).to_dict()
    ({'constant': 0.0057, 'market': -0.0014}, {'market': 0.82})
    """

    coefficients: pd.Series
    covariance: pd.DataFrame
    first_stage: pd.Series
    rows: int
    basis: str

    @property
    def df(self) -> float:
        """Cross-sections less one."""
        return self.rows - 1


@validate_arguments
def instrumented_premia(
    panel: Panel,
    factors: Sequence[str] | None = None,
    *,
    beta_sample: Literal["full", "rolling"] = "full",
    window: int | None = None,
) -> InstrumentedPremia:
    """Instrumental-variable (IV) two-pass risk premia, without the errors-in-variables bias.

    Betas of odd months are the instruments of the betas of even months, and the reverse.

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return of single stocks, ideally hundreds.
    factors : sequence of str, optional
        All of the panel by default.
    beta_sample : {"full", "rolling"}
        Betas over the full sample, or over the ``window`` that ends one period before.
    window : int, optional
        Periods of rolling betas, by default 60.

    Returns
    -------
    InstrumentedPremia
        Ratio of means over all cross-sections; standard errors from its variation over time.

    Raises
    ------
    EstimationError
        If fewer than 24 periods have more assets than coefficients.

    Warns
    -----
    DataWarning
        If the instruments are weak: the full-sample betas hardly differ across assets (test of equal betas with p
        above 0.02, which depends on the number of assets and the correlation of their residuals).

    Notes
    -----
    Jegadeesh, Noh, Pukthuanthong, Roll and Wang (2019): the estimation errors of odd- and even-month betas are
    independent, so the premium is not biased towards zero. In the full sample the instrument never includes the
    month whose return it explains. Means of the numerator and the denominator are computed before their ratio.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> instrumented_premia(panel, ["market"], beta_sample="rolling", window=60).rows
    192
    """
    panel.check_excess("A two-pass estimate of premia")
    if beta_sample == "full":
        refuse_idle_options("beta_sample='full'", window=window)
    window = WINDOW if window is None else window
    names = chosen_factors(panel, factors)
    positions = time_positions(panel.assets.index)
    odd: Bools = np.asarray(positions % 2 == 1)
    returns = panel.excess.to_pandas().to_numpy(dtype=np.float64)
    halves = [_betas(panel, names, rows, beta_sample, window) for rows in (odd, ~odd)]
    sums = _sums(returns, halves, odd, beta_sample == "full")
    terms = [CONSTANT, *names]
    kept = np.flatnonzero(sums.counts > 2 * len(terms))
    if len(kept) < _FEWEST:
        raise EstimationError(
            f"instrumented_premia: {len(kept)} periods have enough assets with odd- and even-month betas; at "
            f"least {_FEWEST} are "
            "needed. Use a longer sample or more assets."
        )
    G, g = sums.cross[kept], sums.products[kept]
    middle = G.mean(axis=0)
    value = np.linalg.solve(middle, g.mean(axis=0))
    moves = np.linalg.solve(middle, (g - G @ value).T).T
    covariance = np.cov(moves.T, ddof=1).reshape(len(terms), len(terms)) / len(kept)
    stage = pd.Series(np.nanmean(sums.correlations[kept], axis=0), names)
    weakness = _warn_of_weakness(returns, panel.factors[names].to_numpy(dtype=np.float64), names)
    span = span_of(panel.assets.index[kept])
    words = "full-sample" if beta_sample == "full" else f"{window}-period"
    counts = sums.counts[kept]
    basis = (
        f"{len(kept)} cross-sections of {int(counts.min())} to {int(counts.max())} of {len(panel.asset_names)} "
        f"assets, {span}; periods left out: {len(returns) - len(kept)}; {words} betas of "
        f"odd and even periods as instruments for each other (IV); {weakness}"
    )
    return InstrumentedPremia(
        pd.Series(value, terms), pd.DataFrame(covariance, terms, terms), stage, len(kept), basis
    )


def _warn_of_weakness(returns: Floats, factors: Floats, names: list[str]) -> str:
    """The test of equal betas in words; warns where it does not reject."""
    rows = np.isfinite(factors).all(axis=1)
    test = equal_betas_test(returns[rows], factors[rows])
    if test is None:
        return "weakness not tested: too few assets have 24 observations"
    main = names[int(np.abs(test.weakest).argmax())]
    if test.p_value > WEAK:
        warn_user(
            f"Weak instruments for {main}: its betas hardly differ across assets (test of equal betas, "
            f"{p_equals(test.p_value)}), so its risk premium is unreliable. Use portfolios or a longer sample."
        )
    return f"test of equal betas, weakest in {main}: {p_equals(test.p_value)}"


def _betas(panel: Panel, names: list[str], rows: Bools, beta_sample: str, window: int) -> Floats:
    """Betas (T, N, K) available in each row, estimated from alternate periods."""
    excess = panel.excess.to_pandas()
    half = excess.where(pd.Series(rows, excess.index), axis=0)
    design = panel.factors[names]
    shape = (len(excess), excess.shape[1], len(names))
    if beta_sample == "full":
        table = regress(half, design, errors="classical")
        return np.broadcast_to(table.coefficients[names].to_numpy(dtype=np.float64), shape)
    rolled = rolling_regress(
        half, design, window=window, min_obs=max(len(names) + 2, window // 3), errors="classical"
    )
    betas = np.full(shape, np.nan)
    places = excess.index.get_indexer(rolled.ends)
    before = (places >= 0) & (places + 1 < len(excess))
    for k, name in enumerate(names):
        betas[places[before] + 1, :, k] = rolled.frame("coefficients", name).to_numpy()[before]
    return betas


@dataclass(frozen=True)
class _Sums:
    """Instruments times regressors (T, p, p) and returns (T, p), assets (T,), correlations of betas (T, K)."""

    cross: Floats
    products: Floats
    counts: Floats
    correlations: Floats


def _sums(returns: Floats, halves: list[Floats], odd: Bools, one_way: bool) -> _Sums:
    """Means over the assets of each period, with both halves as instruments, unless the instrument must exclude
    the period.
    """
    present = np.isfinite(returns)
    for half in halves:
        present &= np.isfinite(half).all(axis=2)
    counts = present.sum(axis=1).astype(float)
    filled = np.where(present, returns, 0.0)
    ones = present[:, :, None].astype(float)
    sides = [np.concatenate([ones, np.where(present[:, :, None], half, 0.0)], axis=2) for half in halves]
    ways = []
    for instrument, regressor in (sides, sides[::-1]):
        cross = np.einsum("tnp,tnq->tpq", instrument, regressor, optimize=True)
        ways.append((cross, np.einsum("tnp,tn->tp", instrument, filled, optimize=True)))
    size = np.maximum(counts, 1.0)[:, None]
    if one_way:  # of an odd period the instruments are of even ones
        cross = np.where(odd[:, None, None], ways[1][0], ways[0][0])
        products = np.where(odd[:, None], ways[1][1], ways[0][1])
    else:
        cross, products = (ways[0][k] + ways[1][k] for k in (0, 1))
    off = [side[:, :, 1:] - ones * (side[:, :, 1:].sum(axis=1) / size)[:, None] for side in sides]
    with np.errstate(invalid="ignore", divide="ignore"):
        correlations = np.sum(off[0] * off[1], axis=1) / np.sqrt(
            np.sum(off[0] ** 2, axis=1) * np.sum(off[1] ** 2, axis=1)
        )
    return _Sums(cross / size[:, :, None], products / size, counts, correlations)
