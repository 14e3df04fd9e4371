"""Premia from the cross-section: betas first, then returns on betas in every period."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.labels import span_of, table_html
from ultrum.core.panel import Panel
from ultrum.core.pricing.betas import chosen_factors, factor_betas
from ultrum.core.pricing.cross_section import CrossSections, Exposure, cross_sections, refuse_empty
from ultrum.core.pricing.premia_errors import (
    bootstrapped,
    covariance_of_mean,
    newey_west_of_mean,
    shanken,
)
from ultrum.core.regression.bandwidth import lag_rule
from ultrum.core.regression.inference import t_p_values, t_quantile
from ultrum.core.regression.results import CONSTANT, BetaTable
from ultrum.core.regression.rolling import rolling_regress
from ultrum.core.types import Bools, Floats, Ints
from ultrum.errors import EstimationError

BETAS: Final = ("full", "rolling")


@dataclass(frozen=True, eq=False, repr=False)
class TwoPass:
    """Prices of exposures, from cross-sections.

    Attributes
    ----------
    premia : Series, shape (p,)
        Mean slope of each exposure, per period; the constant is what is earned without exposure.
    covariance : DataFrame, shape (p, p)
        Of ``premia``, for the errors in ``kind``.
    errors : DataFrame
        Columns ``fama_macbeth newey_west shanken bootstrap``; those that were not possible are missing.
    kind : str
        Which of them t and p values take.
    bias : Series
        Estimated bias of the premia from errors in the betas, per period; missing where betas move.
    slopes : DataFrame, shape (T, p)
    pricing : DataFrame
        By asset: ``realised predicted error rows``, means per period.
    r2, mean_r2 : float
        Of mean returns on mean predictions; and the mean over the periods' own.
    periods_per_year : float
    over : str
        The rate that returns are in excess of.
    basis : str
    """

    premia: pd.Series
    covariance: pd.DataFrame
    errors: pd.DataFrame
    kind: str
    bias: pd.Series
    slopes: pd.DataFrame
    pricing: pd.DataFrame
    r2: float
    mean_r2: float
    periods_per_year: float
    over: str
    basis: str

    @property
    def df(self) -> int:
        """Periods less one."""
        return len(self.slopes) - 1

    @property
    def standard_errors(self) -> pd.Series:
        """Of the kind that t values take."""
        return pd.Series(np.sqrt(np.diag(self.covariance)), self.premia.index)

    @property
    def t_values(self) -> pd.Series:
        """Premia over their errors."""
        return self.premia / self.standard_errors

    def interval(self, level: float = 0.95) -> pd.DataFrame:
        """Confidence interval of each premium per period, columns ``low high``."""
        reach = t_quantile(level, self.df) * self.standard_errors
        return pd.DataFrame({"low": self.premia - reach, "high": self.premia + reach})

    def to_frame(self) -> pd.DataFrame:
        """One row per exposure: premium, every kind of error, t, p, bias, and the annual premium."""
        t = self.t_values
        p = pd.Series(t_p_values(t.to_numpy(), self.df), t.index)
        frame = self.premia.to_frame("premium").join(self.errors).assign(t=t, p=p, bias=self.bias)
        return frame.assign(annual=self.periods_per_year * self.premia)

    def __repr__(self) -> str:
        shown = self.to_frame().dropna(axis=1, how="all")
        percent = shown.columns.drop(["t", "p"])
        shown[percent] *= 100
        return (
            f"Premia, percent per period (annual in the last column)\n"
            f"{shown.to_string(float_format='{:.3f}'.format, line_width=100)}\n"
            f"{textwrap.fill(self.basis, 100)}"
        )

    def _repr_html_(self) -> str:
        return table_html(self.to_frame(), self.basis)


def two_pass(
    panel: Panel,
    factors: Sequence[str] | None = None,
    *,
    characteristics: Mapping[str, pd.DataFrame] | None = None,
    betas: str = "full",
    window: int = 60,
    constant: bool = True,
    lags: int | None = None,
    draws: int = 999,
    seed: int = 0,
) -> TwoPass:
    """Premia of factors and characteristics (Fama and MacBeth 1973).

    Parameters
    ----------
    panel : Panel
    factors : sequence of str, optional
        All of the panel by default; an empty list for characteristics alone.
    characteristics : mapping of str to DataFrame, optional
        Of each asset, as it stood at the end of each row; it explains the next row's return.
    betas : {"full", "rolling"}
        Over each asset's whole sample, or over the ``window`` that ends the row before.
    window : int
        Periods of rolling betas.
    constant : bool
        Whether the cross-sections have a constant.
    lags : int, optional
        Of the Newey–West errors of the mean slopes; by default floor(4(T/100)^(2/9)).
    draws, seed : int
        Of the bootstrap over periods, where Shanken's errors are not to be had.

    Returns
    -------
    TwoPass
        With full-sample betas of a balanced panel, t values take Shanken's (1992) errors,
        (1 + c)(V − Σf/T) + Σf/T with c = γ'Σf⁻¹γ. Where assets come and go, full-sample betas get their
        errors from a bootstrap that redraws periods and estimates both passes again. With rolling betas or
        characteristics alone they are Newey and West's.

    Raises
    ------
    EstimationError
        If no period has more assets than coefficients.

    Notes
    -----
    Errors in the betas draw premia towards zero; the bias −(X'X)⁻¹(ΣVᵢ)γ̂ is estimated from the betas' own
    covariances and shown, and not taken off. See docs/formulas.md.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = two_pass(ul.practice.panel(), ["market"], draws=99)
    >>> list(made.premia.index), made.kind
    (['constant', 'market'], 'bootstrap')
    """
    if betas not in BETAS:
        raise EstimationError(f"betas='{betas}' is not known; it is one of {', '.join(BETAS)}.")
    names = chosen_factors(panel, factors, empty=bool(characteristics))
    given = dict(characteristics or {})
    table = factor_betas(panel, names, errors="classical") if names and betas == "full" else None
    exposures = [
        *_betas(panel, names, table, window),
        *(_before(panel, n, f) for n, f in given.items()),
    ]
    labels = [*([CONSTANT] if constant else []), *names, *given]
    returns = panel.assets.to_numpy(dtype=np.float64) - panel.risk_free.to_numpy()[:, None]
    sections = cross_sections(returns, exposures, constant)
    refuse_empty(sections.slopes, labels)
    kept: Bools = np.asarray(np.isfinite(sections.slopes).all(axis=1))
    mean = sections.slopes[kept].mean(axis=0)
    depth = lag_rule(int(kept.sum())) if lags is None else lags
    found = {
        "fama_macbeth": covariance_of_mean(sections.slopes[kept]),
        "newey_west": newey_west_of_mean(sections.slopes[kept], np.flatnonzero(kept), depth),
    }
    kind = "newey_west"
    if table is not None:
        F = panel.factors[names].to_numpy(dtype=np.float64)
        kind = "shanken" if np.isfinite(returns).all() and not given else "bootstrap"
        found[kind] = (
            shanken(found["fama_macbeth"], mean, F[kept], constant)
            if kind == "shanken"
            else bootstrapped(returns, F, exposures[len(names) :], constant, draws, seed)
        )
    pricing = _pricing(sections, mean, [str(a) for a in panel.assets])
    index = pd.Index(labels)
    errors = {n: np.sqrt(np.diag(found[n])) if n in found else np.nan for n in _KINDS}
    return TwoPass(
        premia=pd.Series(mean, index),
        covariance=pd.DataFrame(found[kind], index, index),
        errors=pd.DataFrame(errors, index),
        kind=kind,
        bias=pd.Series(_bias(table, names, mean, constant, len(given)), index),
        slopes=pd.DataFrame(sections.slopes[kept], panel.assets.index[kept], index),
        pricing=pricing,
        r2=_fit_of_means(pricing),
        mean_r2=float(np.nanmean(sections.r2[kept])),
        periods_per_year=panel.frequency.periods_per_year,
        over=str(panel.risk_free.name),
        basis=_basis(panel, sections, kept, betas if names else "", window, kind, depth, pricing),
    )


_KINDS: Final = ("fama_macbeth", "newey_west", "shanken", "bootstrap")


def _betas(panel: Panel, names: list[str], table: BetaTable | None, window: int) -> list[Exposure]:
    """Exposures to each factor: one number an asset, or what was known the row before."""
    if table is not None:
        return [Exposure(table.coefficients[n].to_numpy()) for n in names]
    if not names:
        return []
    rolled = rolling_regress(panel.excess, panel.factor_table.select(names), window=window)
    rows = _rows_before(panel.assets.index, rolled.ends)
    return [Exposure(rolled.frame("coefficients", name).to_numpy(), rows) for name in names]


def _before(panel: Panel, name: str, frame: pd.DataFrame) -> Exposure:
    """A characteristic as it stood the row before."""
    absent = panel.assets.columns.difference(frame.columns, sort=False)
    if len(absent):
        raise EstimationError(f"The characteristic {name} lacks {', '.join(map(str, absent[:5]))}.")
    rows = _rows_before(panel.assets.index, frame.index)
    if not (rows >= 0).any():
        raise EstimationError(
            f"The characteristic {name} shares no row with the panel; bring it to its periods."
        )
    ordered = frame if frame.columns.equals(panel.assets.columns) else frame[list(panel.assets)]
    return Exposure(ordered.to_numpy(dtype=np.float64), rows)


def _rows_before(index: pd.Index, known: pd.Index) -> Ints:
    """For each period of the panel the row of what was known one period of the calendar before; −1 for none."""
    if isinstance(index, pd.PeriodIndex):
        return np.asarray(known.get_indexer(index - 1), dtype=np.int64)
    return np.concatenate([[-1], known.get_indexer(index)[:-1]]).astype(np.int64)


def _bias(
    table: BetaTable | None, names: list[str], mean: Floats, constant: bool, others: int
) -> Floats:
    """First-order bias of premia from errors in the betas: −(X'X)⁻¹(ΣVᵢ)γ̂, X over the assets."""
    if table is None or others:
        return np.full(len(mean), np.nan)
    first = int(constant)
    B = table.coefficients[names].to_numpy()
    known = np.isfinite(B).all(axis=1)
    X = np.column_stack([np.ones(int(known.sum())), B[known]])[:, 1 - first :]
    noise = np.zeros((len(mean), len(mean)))
    noise[first:, first:] = table.covariance[known][:, 1:, 1:].sum(axis=0)
    return np.asarray(-np.linalg.lstsq(X.T @ X, noise @ mean, rcond=None)[0])


def _pricing(sections: CrossSections, mean: Floats, names: Sequence[str]) -> pd.DataFrame:
    """Mean return of each asset and what the mean premia predict, over the rows it has."""
    with np.errstate(invalid="ignore", divide="ignore"):
        realised = sections.realised / sections.rows
        expected = mean @ sections.exposed / sections.rows
    columns = {"realised": realised, "predicted": expected, "error": realised - expected}
    return pd.DataFrame({**columns, "rows": sections.rows.astype(np.int64)}, list(names))


def _fit_of_means(pricing: pd.DataFrame) -> float:
    whole = pricing.dropna()
    total = float(np.sum((whole["realised"] - whole["realised"].mean()) ** 2))
    return (
        1.0 - float(np.sum((whole["error"] - whole["error"].mean()) ** 2)) / total
        if total > 0
        else np.nan
    )


def _basis(
    panel: Panel,
    sections: CrossSections,
    kept: Bools,
    betas: str,
    window: int,
    kind: str,
    depth: int,
    pricing: pd.DataFrame,
) -> str:
    words = {
        "full": "full-sample betas",
        "rolling": f"betas of {window} periods ending the row before",
        "": "",
    }
    counts = sections.counts[kept]
    names = {
        "shanken": "Shanken errors",
        "bootstrap": "errors by bootstrap over periods",
        "newey_west": f"Newey–West errors, {depth} lags",
    }
    error = float(np.sqrt(np.nanmean(pricing["error"] ** 2)))
    parts = [
        f"{int(kept.sum())} cross-sections of {int(counts.min())} to {int(counts.max())} assets",
        span_of(panel.assets.index[kept]), words[betas], f"t values on {names[kind]}",
        f"periods left out: {int((~kept).sum())}", f"root mean square pricing error {100 * error:.3f} % a period",
    ]  # fmt: skip
    return "; ".join(part for part in parts if part)
