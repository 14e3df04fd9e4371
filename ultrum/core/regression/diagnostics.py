"""Diagnostics of a regression: every usual test, and what its result means."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Floats, Ints
from ultrum.core.displayed_numbers import decimals, p_equals, quantity
from ultrum.core.regression.design_warnings import refuse_exact_fit
from ultrum.core.regression.engine.covariance import CLUSTERED, COSINE, HAC
from ultrum.core.regression.engine.least_squares import inflation, projection_residuals
from ultrum.core.regression.fit import CONSTANT, Fit, weight_rows
from ultrum.core.regression.structural_breaks import Break, break_test, robust_f_of_terms
from ultrum.core.regression.unit_roots import dickey_fuller, is_persistent
from ultrum.core.series.text_tables import TableInNotebooks
from ultrum.core.time.index_frequency_and_gaps import infer_frequency, time_positions
from ultrum.core.time.period_labels import period_label
from ultrum.errors import EstimationError, FrequencyError, one_of

_FEWEST_PAIRS: Final = 12  # of rows next to each other, for an autocorrelation
_PERSISTENT, _VERY_PERSISTENT, _SHORT = 0.3, 0.7, 60
_LEVEL: Final = 0.05
_UNIT_ROOT: Final = "Dickey–Fuller"
_BREAKS: Final[dict[Break, str]] = {
    "chow": "break at the middle",
    "sup-f": "break at an unknown date",
    "cusum": "drift of the coefficients",
}
_ROBUST: Final = "Newey–West errors"


@dataclass(frozen=True)
class Finding:
    """One test: its figures and a sentence on what they mean."""

    test: str
    statistic: float
    distribution: str
    p_value: float
    meaning: str


@dataclass(frozen=True, eq=False, repr=False)
class Diagnosis(TableInNotebooks):
    """All findings about one regression.

    Attributes
    ----------
    findings : tuple of Finding
    basis : str
    recommended : str
        Kind of standard errors for data of this persistence and length, as ``errors=`` takes it.
    persistence : float
        Largest first autocorrelation of a coefficient's scores, corrected for its bias.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> ul.diagnose(fit).to_frame()["p_value"].head(4).round(3)
    test
    autocorrelation of residuals          0.016
    spread that moves with the factors    0.195
    spread of any form (White)            0.416
    normality of residuals                0.000
    Name: p_value, dtype: float64
    """

    findings: tuple[Finding, ...]
    basis: str
    recommended: str = "hac"
    persistence: float = np.nan

    def __getitem__(self, test: str) -> Finding:
        for finding in self.findings:
            if finding.test == test:
                return finding
        raise EstimationError(f"No test '{test}'; {one_of(test, (f.test for f in self.findings))}")

    @property
    def alarms(self) -> tuple[str, ...]:
        """Tests that reject at 5 %, those of unit roots apart, where not to reject is the alarm."""
        return tuple(f.test for f in self._tests if f.p_value < _LEVEL)

    @property
    def expected_alarms(self) -> float:
        """How many of them reject on average where nothing is wrong."""
        return _LEVEL * len(self._tests)

    @property
    def _tests(self) -> list[Finding]:
        return [f for f in self.findings if not (np.isnan(f.p_value) or f.distribution == _UNIT_ROOT)]

    def _in_total(self) -> str:
        count = len(self._tests)
        some = 100.0 * (1.0 - (1.0 - _LEVEL) ** count)
        return (
            f"Alarms at 5 %: {len(self.alarms)} of {count} tests. A model without faults raises "
            f"{self.expected_alarms:.2g} on average, and one or more in about {some:.0f} % of samples."
        )

    def to_frame(self) -> pd.DataFrame:
        """One row per test: statistic, distribution, p value, meaning.

        Returns
        -------
        DataFrame
            Tests, a row each.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> ul.diagnose(fit).to_frame()[["statistic", "p_value"]].head(2).round(3)
                                            statistic  p_value
        test
        autocorrelation of residuals           24.843    0.016
        spread that moves with the factors      1.676    0.195
        """
        return pd.DataFrame([vars(f) for f in self.findings]).set_index("test")

    def __repr__(self) -> str:
        lines = [self.basis]
        for f in self.findings:
            p = "" if np.isnan(f.p_value) else p_equals(f.p_value)
            lines.append(f"{f.test:<38}{f.statistic:>12.4g}  {f.distribution:<14}{p}")
            lines += textwrap.wrap(f.meaning, 94, initial_indent="    ", subsequent_indent="    ")
        advice = (
            f"Standard errors for these data: errors='{self.recommended}' (scores have a first autocorrelation "
            f"of {decimals(self.persistence)})."
        )
        return "\n".join([*lines, *textwrap.wrap(self._in_total(), 98), *textwrap.wrap(advice, 98)])


@validate_arguments
def diagnose(fit: Fit, *, lags: int | None = None, draws: int = 999, seed: int = 0) -> Diagnosis:
    """Run every test on a regression and explain each result.

    Parameters
    ----------
    fit : Fit
        Estimated regression.
    lags : int, optional
        Order of the test for autocorrelation; by default one year of months or quarters, otherwise 5.
    draws, seed : int
        Of the simulation that gives the p value of the largest F.

    Returns
    -------
    Diagnosis
        Autocorrelation (Breusch 1978, Godfrey 1978), heteroskedasticity (Koenker 1981, White 1980), normality
        (Jarque and Bera 1980), form (Ramsey 1969), breaks (Chow 1960; Andrews 1993; Brown, Durbin and Evans
        1975), near copies (Belsley, Kuh and Welsch 1980), rows of great influence (Cook 1977), and unit
        roots (Dickey and Fuller 1979) where a series may be non-stationary.

    Examples
    --------
    >>> import ultrum as ul
    >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
    >>> diagnose(fit)["normality of residuals"].p_value < 0.05
    True
    """
    refuse_exact_fit(fit)
    X, y = weight_rows(fit.design, fit.response, fit.weights)
    residuals = y - X @ fit.coefficients.to_numpy()
    findings = [
        _autocorrelation(fit, X, residuals, lags or _year(fit.design.index)),
        _heteroskedasticity(fit, residuals),
        *_white(fit, residuals),
        _normality(residuals),
        *_form(fit, X, residuals),
        *_breaks(fit, draws, seed),
        *_copies(fit),
        _influence(fit),
        *_unit_roots(fit),
    ]
    span = " to ".join(period_label(end) for end in fit.sample)
    rho = _persistence(X, residuals, time_positions(fit.design.index))
    return Diagnosis(
        tuple(findings),
        f"{fit.name} on {', '.join(_factors(fit))}: {quantity(fit.nobs, 'row')}, {span}",
        _recommend_errors(fit, rho),
        rho,
    )


def _persistence(X: Floats, residuals: Floats, positions: Ints) -> float:
    """Largest first autocorrelation of the coefficients' scores, with Kendall's (1954) correction."""
    scores = np.linalg.pinv(X).T * residuals[:, None]
    next_to = np.diff(positions) == 1
    past, now = scores[:-1][next_to], scores[1:][next_to]
    if len(past) < _FEWEST_PAIRS:
        return float("nan")
    with np.errstate(invalid="ignore", divide="ignore"):
        rho = np.sum(past * now, axis=0) / np.sum(past * past, axis=0)
    return float(np.nanmax(rho + (1.0 + 3.0 * rho) / len(past)))


def _recommend_errors(fit: Fit, rho: float) -> str:
    """Kind of errors by persistence and length; clusters that were given stay."""
    if fit.clusters is not None:
        return "cr3"
    if rho > _VERY_PERSISTENT:
        return "ewc-prewhitened"
    if rho > _PERSISTENT:
        return "ewc"
    return "hc3" if fit.nobs < _SHORT else "hac"


def _factors(fit: Fit) -> list[str]:
    return [str(c) for c in fit.design if c != CONSTANT]


def _year(index: pd.Index) -> int:
    try:
        periods = infer_frequency(index).periods_per_year
    except FrequencyError:
        return 5
    return int(periods) if periods in (4, 12) else 5


def _r2(y: Floats, X: Floats) -> float:
    """Centred R² of an auxiliary regression whose first column is one."""
    deviations = y - y.mean()
    left = projection_residuals(X, deviations)
    return float(1.0 - left @ left / (deviations @ deviations)) if deviations @ deviations > 0 else 0.0


def _chi2(test: str, statistic: float, df: int, alarm: str, calm: str) -> Finding:
    p_value = float(scipy.special.chdtrc(df, max(statistic, 0.0)))
    return Finding(test, statistic, f"χ²({df})", p_value, alarm if p_value < _LEVEL else calm)


def _autocorrelation(fit: Fit, X: Floats, residuals: Floats, order: int) -> Finding:
    """T·R² of the residuals on the regressors and their own lags, zero where a lag is not there."""
    order = min(order, max(1, (len(X) - X.shape[1]) // 3))
    places = time_positions(fit.design.index)
    places = places - places[0]
    line = np.zeros(int(places[-1]) + 1 + order)
    line[places + order] = residuals
    lagged = np.column_stack([line[places + order - lag] for lag in range(1, order + 1)])
    both = np.column_stack([X, lagged])
    total = residuals @ residuals
    left = projection_residuals(both, residuals)
    statistic = len(X) * float(1.0 - left @ left / total) if total > 0 else 0.0
    kept = fit.errors in (*HAC, *COSINE, *CLUSTERED, "clustered")
    cure = "the errors in use allow for it." if kept else f"use {_ROBUST} (errors='hac')."
    return _chi2(
        "autocorrelation of residuals",
        statistic,
        order,
        f"Residuals are autocorrelated over up to {order} periods; {cure} Betas stay right, unless a lagged "
        "left-hand side is among the factors.",
        f"No sign that residuals are autocorrelated over up to {order} periods.",
    )


def _heteroskedasticity(fit: Fit, residuals: Floats) -> Finding:
    """Koenker's T·R² of the squared residuals on the regressors."""
    X = fit.design.to_numpy(dtype=np.float64)
    whole = X if CONSTANT in fit.design else np.column_stack([np.ones(len(X)), X])
    statistic = len(X) * _r2(residuals**2, whole)
    return _chi2(
        "spread that moves with the factors",
        statistic,
        whole.shape[1] - 1,
        _unequal(fit),
        "No sign that the spread of residuals moves with the level of the factors.",
    )


def _unequal(fit: Fit) -> str:
    plain = fit.errors == "classical"
    cure = (
        "classical errors are wrong: use errors='hc3' or 'hac'." if plain else "the errors in use allow for it."
    )
    return f"Residuals spread more at some values of the factors than at others; {cure}"


def _white(fit: Fit, residuals: Floats) -> Iterator[Finding]:
    """T·R² of the squared residuals on the factors, their squares and products."""
    F = fit.design[_factors(fit)].to_numpy(dtype=np.float64)
    if not F.shape[1]:
        return
    F = (F - F.mean(axis=0)) / np.maximum(F.std(axis=0), np.finfo(float).tiny)
    low, high = np.tril_indices(F.shape[1])
    whole = np.column_stack([np.ones(len(F)), F, F[:, low] * F[:, high]])
    rank = int(np.linalg.matrix_rank(whole))
    if rank >= len(F) // 2:
        return  # more columns than the rows can tell apart
    statistic = len(F) * _r2(residuals**2, whole)
    yield _chi2(
        "spread of any form (White)",
        statistic,
        rank - 1,
        _unequal(fit),
        "No sign that the spread of residuals moves with the factors, their squares or products.",
    )


def _normality(residuals: Floats) -> Finding:
    deviations = residuals - residuals.mean()
    spread = np.sqrt(np.mean(deviations**2)) or 1.0
    skew, kurtosis = np.mean((deviations / spread) ** 3), np.mean((deviations / spread) ** 4)
    statistic = float(len(deviations) / 6 * (skew**2 + (kurtosis - 3) ** 2 / 4))
    return _chi2(
        "normality of residuals",
        statistic,
        2,
        f"Residuals are not normal (skewness {skew:.2f}, kurtosis {kurtosis:.1f}), as returns seldom are. Betas "
        "stay right; in samples of a few dozen rows t and F are only near their tables.",
        f"No sign against normal residuals (skewness {skew:.2f}, kurtosis {kurtosis:.1f}).",
    )


def _form(fit: Fit, X: Floats, residuals: Floats) -> Iterator[Finding]:
    """Ramsey's RESET: whether powers of the fitted values add anything, in the errors of the fit."""
    fitted = fit.fitted.to_numpy()
    spread = fitted.std()
    below = len(X) - X.shape[1] - 2
    if not spread > 0 or below < 1:
        return
    # with a constant among the terms, powers about the mean span the same columns and keep digits
    moved = fitted - fitted.mean() if CONSTANT in fit.design else fitted
    powers = np.column_stack([(moved / spread) ** 2, (moved / spread) ** 3])
    if fit.weights is not None:
        powers *= np.sqrt(fit.weights.to_numpy())[:, None]
    try:
        if fit.errors == "classical":
            statistic = _f_of_terms(X, powers, residuals)
        else:
            places = time_positions(fit.design.index)
            statistic = robust_f_of_terms(X, powers, residuals, places, fit.lags)
    except EstimationError:
        return  # of two values, squares and cubes are combinations of them
    p_value = float(scipy.special.fdtrc(2, below, max(statistic, 0.0)))
    meaning = (
        "A straight line does not describe it: curved terms add to the fit. Look at the plot of the fit; a "
        "factor, a square or a beta that differs by market direction may be missing."
        if p_value < _LEVEL
        else "No sign that a curved line would fit better."
    )
    yield Finding("straight line (RESET)", statistic, f"F(2, {below})", p_value, meaning)


def _f_of_terms(X: Floats, added: Floats, residuals: Floats) -> float:
    """F of added terms where errors are alike."""
    both = np.column_stack([X, added])
    left = projection_residuals(both, residuals)
    rest, below = float(left @ left), len(X) - both.shape[1]
    gained = float(residuals @ residuals) - rest
    return gained / added.shape[1] / (rest / below) if rest > 0 else 0.0


def _breaks(fit: Fit, draws: int, seed: int) -> Iterator[Finding]:
    for how, name in _BREAKS.items():
        try:
            test = break_test(fit, how=how, draws=draws, seed=seed)
        except EstimationError as error:
            yield Finding(name, np.nan, "", np.nan, f"Not tested. {error}")
            continue
        alarm = {
            "chow": "Coefficients differ between the two halves; a beta over the whole span describes neither.",
            "sup-f": f"Coefficients change, most likely {test.note}. Estimate the "
            "parts, or a rolling or filtered beta.",
            "cusum": "Forecasts from past rows err to one side for long; the level or a beta drifts.",
        }[how]
        calm = "No sign that the coefficients change."
        meaning = alarm if test.p_value < _LEVEL else calm
        yield Finding(name, test.statistic, test.distribution, test.p_value, meaning)


def _copies(fit: Fit) -> Iterator[Finding]:
    condition, factors = fit.condition_number, _factors(fit)
    if len(factors) < 2:
        return
    bad = condition > 30
    meaning = (
        "Above 30 (Belsley, Kuh and Welsch 1980): some columns are near combinations of others."
        if bad
        else "Below 30: no trouble from factors that resemble each other."
    )
    yield Finding("condition number", condition, "", np.nan, meaning)
    inflated = inflation(fit.design[factors].to_numpy(dtype=np.float64), CONSTANT in fit.design)
    worst = int(np.argmax(inflated))
    error = np.sqrt(inflated[worst])
    yield Finding(
        "largest variance inflation",
        float(inflated[worst]),
        "",
        np.nan,
        f"{factors[worst]}: its error is {error:.2f} times what it would be if the factors were unrelated"
        + (" (10 and more is called serious)." if inflated[worst] >= 10 else "."),
    )


def _influence(fit: Fit) -> Finding:
    table = fit.influence()
    row = table["cooks_distance"].fillna(0.0).to_numpy().argmax()
    cook, label = float(table["cooks_distance"].iloc[row]), period_label(table.index[int(row)])
    wild = int((table["studentised"].abs() > 4).sum())
    meaning = (
        f"The row {label} moves the coefficients most"
        + ("; one and more is called large, so see what it is." if cook >= 1 else ", not much.")
        + (f" Rows over four errors off the line: {wild}." if wild else "")
    )
    return Finding("largest Cook's distance", cook, "", np.nan, meaning)


def _unit_roots(fit: Fit) -> Iterator[Finding]:
    """Unit-root tests of what looks like a level, and of the residuals of a regression of levels."""
    names = [str(fit.name), *_factors(fit)]
    columns = [fit.response, *(fit.design[factor] for factor in _factors(fit))]
    series = [column.to_numpy(dtype=np.float64) for column in columns]
    suspects = [(n, v) for n, v in zip(names, series, strict=True) if is_persistent(v)]
    for name, values in suspects:
        test = dickey_fuller(values, trend=True, positions=time_positions(fit.design.index))
        yield Finding(
            f"unit root in {name}",
            test.statistic,
            _UNIT_ROOT,
            test.p_value,
            f"A unit root is rejected: {name} comes back to its trend."
            if test.p_value < _LEVEL
            else f"A unit root is not rejected: {name} may be non-stationary. Regressions of such levels on each "
            "other find relations that are not there; take growth or differences.",
        )
