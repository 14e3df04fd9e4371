"""Many tests at once: p values adjusted for how many there are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import checked
from ultrum.core.array_types import Floats, Ints
from ultrum.core.displayed_numbers import counted
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.pricing.factor_betas import chosen_factors
from ultrum.core.regression.engine.bootstrap_draws import row_counts
from ultrum.core.regression.ols import regress
from ultrum.errors import EstimationError

Adjustment = Literal["holm", "bh", "by"]
_FEWEST: Final = 20  # periods
_AT_ONCE: Final = 1 << 22  # numbers of one array of some draws; about six such are held


@checked
def adjust_p_values(p_values: pd.Series | pd.DataFrame, how: Adjustment = "holm") -> pd.DataFrame:
    """P values next to those adjusted for the number of tests.

    Parameters
    ----------
    p_values : Series or DataFrame, shape (n,) or (n, k)
        Of tests; all of a DataFrame are one family. Missing ones are not counted, and come last.
    how : {"holm", "bh", "by"}
        ``holm`` bounds the chance of any false rejection (Holm 1979); ``bh`` the expected share of false ones
        among the rejections, for independent or positively dependent tests (Benjamini and Hochberg 1995);
        ``by`` the same for any dependence (Benjamini and Yekutieli 2001).

    Returns
    -------
    DataFrame
        Columns ``p`` and ``adjusted``, smallest first.

    Raises
    ------
    EstimationError
        If a value is not between 0 and 1.

    Examples
    --------
    >>> adjust_p_values(pd.Series({"a": 0.01, "b": 0.04, "c": 0.03})).round(3)
          p  adjusted
    a  0.01      0.03
    c  0.03      0.06
    b  0.04      0.06
    """
    whole: pd.Series = pd.Series(p_values.stack()) if isinstance(p_values, pd.DataFrame) else p_values
    p = whole.astype(float).sort_values(kind="stable")  # missing ones come last
    values = np.asarray(p, dtype=np.float64)
    known = ~np.isnan(values)
    if not ((values[known] >= 0) & (values[known] <= 1)).all():
        raise EstimationError("p values are between 0 and 1; give those of tests.")
    adjusted = np.full(len(p), np.nan)
    adjusted[known] = _adjusted(values[known], how)
    return pd.DataFrame({"p": p, "adjusted": adjusted}, p.index)


def _adjusted(p: Floats, how: Adjustment) -> Floats:
    """Adjusted p values of rising ones."""
    count, ranks = len(p), np.arange(1, len(p) + 1)
    if how == "holm":
        return np.asarray(np.minimum(np.maximum.accumulate((count - ranks + 1) * p), 1.0))
    factor = count / ranks * (np.sum(1.0 / ranks) if how == "by" else 1.0)
    return np.asarray(np.minimum(np.minimum.accumulate((factor * p)[::-1])[::-1], 1.0))


@checked
def step_down_alphas(
    panel: Panel, factors: Sequence[str] | None = None, *, draws: int = 999, seed: int = 0
) -> pd.DataFrame:
    """Test the alphas of all assets at once by the step-down bootstrap (Romano and Wolf 2005).

    Parameters
    ----------
    panel : Panel
        Aligned returns, factors and risk-free return.
    factors : sequence of str, optional
        All of the panel by default.
    draws, seed : int
        Of the bootstrap over whole periods.

    Returns
    -------
    DataFrame
        By asset, smallest p first: ``alpha`` per period, ``t`` (White's errors), ``p`` alone, and ``adjusted``,
        which bounds the chance of any false rejection and uses how the assets move together. Assets with too few
        rows come last, without numbers.

    Raises
    ------
    EstimationError
        If the panel has no risk-free return, or fewer than 20 periods have every factor.

    Notes
    -----
    Whole periods are redrawn, so that correlation between assets stays; each draw's t is of the change from the
    sample's alpha over an error estimated in that draw. An asset is on the rows it has.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = step_down_alphas(ul.practice.panel(), ["market"], draws=199)
    >>> list(table.columns), bool((table["adjusted"] >= table["p"] - 0.05).all())
    (['alpha', 't', 'p', 'adjusted'], True)
    """
    panel.check_excess("A test of alphas")
    names = chosen_factors(panel, factors)
    table = regress(panel.excess, panel.factor_table.select(names), errors="hc0")
    F = panel.factors[names].to_numpy(dtype=np.float64)
    whole = np.isfinite(F).all(axis=1)
    if whole.sum() < _FEWEST:
        raise EstimationError(f"{counted(int(whole.sum()), 'period')} with every factor; {_FEWEST} are needed.")
    t = table.t_values["constant"].to_numpy()
    drawn = drawn_alpha_t(panel.excess.to_pandas().to_numpy(float)[whole], F[whole], draws, seed)
    kept = np.flatnonzero(np.isfinite(t))
    p_values = np.full((2, len(t)), np.nan)
    p_values[:, kept] = step_down(np.abs(t[kept]), np.abs(drawn[:, kept]))
    alphas = table.coefficients["constant"].to_numpy()
    columns = {"alpha": alphas, "t": t, "p": p_values[1], "adjusted": p_values[0]}
    made = pd.DataFrame(columns, pd.Index(table.assets, name="asset"))
    return made.sort_values(["adjusted", "p"], kind="stable")


def drawn_alpha_t(Y: Floats, F: Floats, draws: int, seed: int) -> Floats:
    """Studentised changes of alphas in samples of redrawn periods, (draws, N).

    Weighted least squares with the count of each period as its weight; White's error of each draw.
    """
    X = np.column_stack([np.ones(len(F)), F])
    present = np.isfinite(Y)
    filled = np.where(present, Y, 0.0)
    products = X[:, :, None] * X[:, None, :]
    base = _alphas(X, products, filled, present, np.ones((1, len(X))))[0][0]
    generator = np.random.default_rng(seed)
    out = np.empty((draws, Y.shape[1]))
    step = max(1, _AT_ONCE // max(Y.size, 1))
    for low in range(0, draws, step):
        some = min(step, draws - low)
        periods: Ints = generator.integers(0, len(X), size=(some, len(X)))
        alphas, errors = _alphas(X, products, filled, present, row_counts(periods, len(X)))
        with np.errstate(invalid="ignore", divide="ignore"):
            out[low : low + some] = (alphas - base) / errors
    return out


def _alphas(X: Floats, products: Floats, Y: Floats, present: Floats, counts: Floats) -> tuple[Floats, Floats]:
    """Constants and their White errors by draw and asset, rows weighted by their counts."""
    terms = X.shape[1]
    weight = counts[:, :, None] * present  # (D, T, N)
    flat = products.reshape(len(X), -1)
    gram = np.einsum("dtn,tq->dnq", weight, flat, optimize=True).reshape(*weight.shape[::2], terms, terms)
    cross = np.einsum("dtn,tn,tp->dnp", weight, Y, X, optimize=True)
    inverse = np.linalg.pinv(gram)
    slopes = np.einsum("dnpq,dnq->dnp", inverse, cross)
    residuals = Y[None] - np.einsum("tp,dnp->dtn", X, slopes)
    pull = np.einsum("dnp,tp->dtn", inverse[:, :, 0, :], X, optimize=True)
    with np.errstate(invalid="ignore", divide="ignore"):
        errors = np.sqrt(np.sum(weight * (pull * residuals) ** 2, axis=1))
    return slopes[:, :, 0], errors


def step_down(statistics: Floats, drawn: Floats) -> tuple[Floats, Floats]:
    """Adjusted p values of Romano and Wolf (2016), and each test's own.

    Parameters
    ----------
    statistics : ndarray, shape (N,)
        Absolute t.
    drawn : ndarray, shape (draws, N)
        Absolute t of each draw, under the hypothesis.
    """
    count = len(drawn)
    order = np.argsort(-statistics, kind="stable")
    ranked = np.nan_to_num(drawn[:, order], nan=np.inf)
    largest = np.maximum.accumulate(ranked[:, ::-1], axis=1)[:, ::-1]  # of those not yet rejected
    p = (1 + np.sum(largest >= statistics[order], axis=0)) / (count + 1)
    adjusted = np.empty(len(order))
    adjusted[order] = np.maximum.accumulate(p)
    single = (1 + np.sum(np.nan_to_num(drawn, nan=np.inf) >= statistics, axis=0)) / (count + 1)
    return adjusted, single
