"""The result of two-pass regressions, assembled from cross-sections."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Protocol

import numpy as np
import pandas as pd

from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import ToLatex, p_equals, quantity, table_text
from ultrum.core.pricing.cross_sections import CrossSections, refuse_empty
from ultrum.core.pricing.factor_betas_and_shrinkage import HasFactors, chosen_factors
from ultrum.core.pricing.two_pass_standard_errors import covariance_of_mean, newey_west_of_mean, robust_sets
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.newey_west_and_fixed_b import check_depth, lag_rule
from ultrum.core.regression.inference import CoefficientInference, TestResult
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.time.frequency import Frequency, calendar_days
from ultrum.core.time.index_frequency_and_gaps import observations_per_year, time_positions
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, one_of

WEAK: Final = 0.02  # p of the test of equal betas, above which they do not identify the premia
BETAS: Final = ("full", "rolling")
KINDS_IN_WORDS: Final = {
    "fama_macbeth": "Fama–MacBeth",
    "newey_west": "Newey–West",
    "shanken": "Shanken",
    "bootstrap": "bootstrap",
    "misspecification": "misspecification-robust",
}
_KINDS: Final = ("fama_macbeth", "newey_west", "shanken", "bootstrap")


@dataclass(frozen=True, eq=False, repr=False)
class TwoPass(CoefficientInference, ToLatex):
    """Risk premia of exposures, from cross-sections.

    Attributes
    ----------
    premia : Series, shape (p,)
        Mean slope of each exposure, per period; the constant is the mean excess return without exposure.
    covariance : DataFrame, shape (p, p)
        Covariance of ``premia``, for the standard errors in ``kind``.
    errors : DataFrame
        Columns ``fama_macbeth newey_west shanken bootstrap``; unavailable ones are missing.
    kind : str
        Kind of standard errors behind t and p values.
    bias : Series
        Errors-in-variables bias of the premia (first order), per period; missing for time-varying betas.
    slopes : DataFrame, shape (T, p)
    pricing : DataFrame
        By asset: ``realised predicted error rows``, means per period.
    r2, mean_r2 : float
        Cross-sectional R² (mean returns on betas), and the mean R² of the periods.
    periods_per_year : float
    excess_of : str
        The rate that returns are in excess of.
    basis : str
    identification : TestResult or None
        Test of equal full-sample betas: with a p value above 0.02 they do not identify every premium.
    r2_error : float
        Standard error of ``r2``, with misspecification-robust standard errors.
    balanced : Balanced or None
        Data of the assets with complete histories, for :meth:`robust_sets`.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> result = ul.two_pass(panel, ["market"])
    >>> result.to_frame().iloc[:, :2].round(4)
              premium  fama_macbeth
    constant   0.0039        0.0035
    market     0.0007        0.0047
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
    excess_of: str
    basis: str
    identification: TestResult | None = None
    r2_error: float = np.nan
    balanced: Balanced | None = None

    @property
    def df(self) -> int:
        """Periods less one."""
        return len(self.slopes) - 1

    @property
    def coefficients(self) -> pd.Series:
        """The premia, as the coefficients of a regression."""
        return self.premia

    def to_frame(self) -> pd.DataFrame:
        """One row per exposure: premium, every kind of standard error, t, p, bias, and the annual premium.

        Returns
        -------
        DataFrame
            Estimates, one row per exposure.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> ul.two_pass(panel, ["market"]).to_frame().T.head(3).round(4)
                      constant  market
        premium         0.0039  0.0007
        fama_macbeth    0.0035  0.0047
        newey_west      0.0035  0.0049
        """
        frame = self.premia.to_frame("premium").join(self.errors)
        frame = frame.assign(t=self.t_values, p=self.p_values, bias=self.bias)
        return frame.assign(annual=self.periods_per_year * self.premia)

    def robust_sets(self, level: float = 0.95) -> pd.DataFrame:
        """Identification-robust confidence sets of the premia (Kleibergen and Zhan 2020).

        Parameters
        ----------
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        DataFrame
            By factor: ``low high`` per period and ``shape``: ``interval``, ``half-lines`` (all but ``low`` to
            ``high``), ``whole line`` or ``empty``. The sets assume that the model prices the assets; an empty set
            rejects it. ``reading`` interprets the set.

        Raises
        ------
        EstimationError
            If the betas are not full-sample betas of assets with complete histories.

        Examples
        --------
        >>> import ultrum as ul
        >>> ul.two_pass(ul.practice.panel(), ["market"]).robust_sets()[["shape"]]
                   shape
        market  interval
        """
        if self.balanced is None:
            raise EstimationError(
                "robust_sets: needs full-sample betas of assets with complete histories, and more periods than "
                "assets."
            )
        data, rows = self.balanced, {}
        factors = self.premia.index[-data.factors.shape[1] :]
        for name, parts in zip(factors, robust_sets(data.returns, data.factors, level), strict=True):
            rows[name] = _set_row(parts)
        return pd.DataFrame.from_dict(rows, orient="index")

    def __repr__(self) -> str:
        shown = self.to_frame().dropna(axis=1, how="all")
        percent = shown.columns.drop(["t", "p"], errors="ignore")
        shown[percent] *= 100
        return (
            f"Premia, percent per period (annual in the last column)\n{table_text(shown, '{:.3f}')}\n"
            f"{textwrap.fill(self.basis, 100)}\n{textwrap.fill(self.identification_in_words(), 100)}"
        )

    def identification_in_words(self) -> str:
        """The test of equal betas, as a sentence; empty where it is not done.

        Returns
        -------
        str
            The test as a sentence.

        Examples
        --------
        >>> import ultrum as ul
        >>> made = ul.two_pass(ul.practice.panel(), ["market"])
        >>> print(made.identification_in_words())
        Test of equal betas (H0: a combination of betas is equal across assets): χ²(15.3) = 126, p < 0.001;
        rejected: the betas are not all equal (weakest in market; 23 assets).
        """
        test = self.identification
        if test is None:
            return ""
        zero = "zero" in test.hypothesis
        verdict = (
            "not rejected, so at least one risk premium is not identified"
            if test.p_value > WEAK
            else f"rejected: the betas are not all {'zero' if zero else 'equal'}"
        )
        statistic = f"{test.distribution} = {test.statistic:.4g}, {p_equals(test.p_value)}"
        name = f"Test of {'zero' if zero else 'equal'} betas (H0: {test.hypothesis})"
        return f"{name}: {statistic}; {verdict} ({test.note})."


def _set_row(parts: list[tuple[float, float]]) -> dict[str, object]:
    """A confidence set as a row; only a bounded set that excludes zero is evidence of a premium."""
    if not parts:
        return {"low": np.nan, "high": np.nan, "shape": "empty", "reading": "the model is rejected"}
    if len(parts) == 2:
        return {"low": parts[0][1], "high": parts[1][0], "shape": "half-lines", "reading": "not identified"}
    low, high = parts[0]
    if not np.isfinite([low, high]).all():
        return {"low": low, "high": high, "shape": "whole line", "reading": "not identified"}
    away = low > 0 or high < 0
    return {
        "low": low,
        "high": high,
        "shape": "interval",
        "reading": "zero is outside" if away else "zero is inside",
    }


@dataclass(frozen=True, eq=False)
class Balanced:
    """Excess returns (T, N) and factors (T, K) without missing values, with assets and periods."""

    returns: Floats
    factors: Floats
    assets: list[str]
    index: pd.Index


@dataclass(frozen=True)
class TwoPassPlan:
    """Options of two-pass regressions, checked."""

    factors: list[str]
    characteristics: list[str]
    betas: str
    window: int
    constant: bool
    lags: int | None

    @classmethod
    def of(
        cls,
        panel: HasFactors,
        factors: Sequence[str] | None,
        characteristics: Mapping[str, object] | None,
        betas: str,
        window: int,
        constant: bool,
        lags: int | None,
    ) -> TwoPassPlan:
        """The plan, if it is feasible."""
        if betas not in BETAS:
            raise EstimationError(f"betas='{betas}' is not known; {one_of(betas, BETAS)}")
        names = chosen_factors(panel, factors, empty=bool(characteristics))
        return cls(names, list(characteristics or {}), betas, window, constant, lags)

    @property
    def whole_sample(self) -> bool:
        """Whether betas are estimated over each asset's full sample."""
        return bool(self.factors) and self.betas == "full"

    @property
    def labels(self) -> list[str]:
        """Names of the slopes."""
        return [*([CONSTANT] if self.constant else []), *self.factors, *self.characteristics]


@dataclass(frozen=True)
class Slopes:
    """Slopes of the periods that have them, their mean, and the Newey–West lags."""

    kept: Bools
    values: Floats
    mean: Floats
    depth: int
    positions: Ints

    @classmethod
    def of(cls, sections: CrossSections, plan: TwoPassPlan, index: pd.Index) -> Slopes:
        """Slopes of the periods with enough assets."""
        refuse_empty(sections.slopes, plan.labels)
        kept: Bools = np.asarray(np.isfinite(sections.slopes).all(axis=1))
        values = sections.slopes[kept]
        check_depth(plan.lags, len(values))
        depth = lag_rule(len(values)) if plan.lags is None else plan.lags
        return cls(kept, values, values.mean(axis=0), depth, time_positions(index)[kept])

    def plain(self, plan: TwoPassPlan) -> dict[str, Floats]:
        """Covariances that treat the exposures as known."""
        return {
            "fama_macbeth": covariance_of_mean(self.values),
            "newey_west": newey_west_of_mean(self.values, self.positions, self.depth),
        }


class PanelFacts(HasFactors, Protocol):
    """The facts of a panel, in memory or on disk, that the result reports."""

    @property
    def risk_free(self) -> pd.Series:
        """Shape (T,)."""

    @property
    def frequency(self) -> Frequency:
        """Of the rows."""

    @property
    def asset_names(self) -> list[str]:
        """Names of the assets."""


def two_pass_of(
    panel: PanelFacts,
    plan: TwoPassPlan,
    sections: CrossSections,
    slopes: Slopes,
    covariances: Mapping[str, Floats],
    kind: str,
    table: BetaTable | None,
) -> TwoPass:
    """The labelled result; ``kind`` selects the covariance of the t values."""
    index, periods = pd.Index(plan.labels), panel.risk_free.index[slopes.kept]
    pricing = _pricing(sections, slopes.mean, panel.asset_names)
    errors = {n: np.sqrt(np.diag(covariances[n])) if n in covariances else np.nan for n in _KINDS}
    return TwoPass(
        premia=pd.Series(slopes.mean, index),
        covariance=pd.DataFrame(covariances[kind], index, index),
        errors=pd.DataFrame(errors, index),
        kind=kind,
        bias=pd.Series(_bias(table, plan, slopes.mean), index),
        slopes=pd.DataFrame(slopes.values, periods, index),
        pricing=pricing,
        r2=_fit_of_means(pricing),
        mean_r2=float(np.nanmean(sections.r2[slopes.kept])),
        periods_per_year=_periods_per_year(panel, periods),
        excess_of=str(panel.risk_free.name),
        basis=_basis(periods, plan, sections.counts, slopes, kind, pricing),
    )


def _periods_per_year(panel: PanelFacts, periods: pd.Index) -> float:
    """Periods per year over the span of the cross-sections."""
    ends = np.array([0]), np.array([len(periods) - 1])
    return float(observations_per_year(panel.frequency, calendar_days(periods), *ends)[0])


def _bias(table: BetaTable | None, plan: TwoPassPlan, mean: Floats) -> Floats:
    """First-order bias of premia from errors in the betas: −(X'X)⁻¹(ΣVᵢ)γ̂, X over the assets."""
    if table is None or plan.characteristics:
        return np.full(len(mean), np.nan)
    first = int(plan.constant)
    B = table.coefficients[plan.factors].to_numpy()
    complete = np.isfinite(B).all(axis=1)
    X = np.column_stack([np.ones(int(complete.sum())), B[complete]])[:, 1 - first :]
    noise = np.zeros((len(mean), len(mean)))
    noise[first:, first:] = table.covariance[complete][:, 1:, 1:].sum(axis=0)
    return np.asarray(-np.linalg.lstsq(X.T @ X, noise @ mean, rcond=None)[0])


def _pricing(sections: CrossSections, mean: Floats, names: Sequence[str]) -> pd.DataFrame:
    """Mean return of each asset and its prediction from the mean premia, over the asset's own periods."""
    with np.errstate(invalid="ignore", divide="ignore"):
        realised = sections.realised / sections.rows
        expected = mean @ sections.exposed / sections.rows
    columns = {"realised": realised, "predicted": expected, "error": realised - expected}
    return pd.DataFrame({**columns, "rows": sections.rows.astype(np.int64)}, list(names))


def _fit_of_means(pricing: pd.DataFrame) -> float:
    whole = pricing.dropna()
    total = float(np.sum((whole["realised"] - whole["realised"].mean()) ** 2))
    return 1.0 - float(np.sum((whole["error"] - whole["error"].mean()) ** 2)) / total if total > 0 else np.nan


def _basis(
    periods: pd.Index, plan: TwoPassPlan, assets: Floats, slopes: Slopes, kind: str, pricing: pd.DataFrame
) -> str:
    words = {
        "full": "full-sample betas",
        "rolling": f"rolling betas of {plan.window} periods ending one period before",
    }
    counts = assets[slopes.kept]
    names = {
        "shanken": "Shanken standard errors",
        "bootstrap": "standard errors by bootstrap over periods",
        "newey_west": f"Newey–West standard errors, {quantity(slopes.depth, 'lag')}",
    }
    ignored = "estimation error in the betas ignored (errors-in-variables)"
    error = float(np.sqrt(np.nanmean(pricing["error"] ** 2)))
    parts = [
        f"{len(slopes.values)} cross-sections of {int(counts.min())} to {quantity(int(counts.max()), 'asset')}",
        span_of(periods),
        words[plan.betas] if plan.factors else "",
        f"t values on {names[kind]}",
        ignored if plan.factors and kind == "newey_west" else "",
        f"periods left out: {int((~slopes.kept).sum())}",
        f"root mean square pricing error {100 * error:.3f} % per period",
    ]
    return "; ".join(part for part in parts if part)
