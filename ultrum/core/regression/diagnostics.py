"""Diagnostics of a regression: the standard specification tests, each with an interpretation."""

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
from ultrum.core.deprecated_names import RenamedAttribute
from ultrum.core.presentation import TableInNotebooks, decimals, p_equals, quantity
from ultrum.core.regression.engine.covariance_and_bootstrap import CLUSTERED, COSINE, HAC
from ultrum.core.regression.engine.least_squares import inflation, projection_residuals
from ultrum.core.regression.engine.newey_west_and_fixed_b import score_autocorrelation
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.structural_breaks import Break, break_test, robust_f_of_terms
from ultrum.core.regression.unit_roots_and_design_warnings import dickey_fuller, is_persistent, refuse_exact_fit
from ultrum.core.time.index_frequency_and_gaps import infer_frequency, time_positions
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import EstimationError, FrequencyError, one_of

_PERSISTENT, _VERY_PERSISTENT, _SHORT = 0.3, 0.7, 60
_LEVEL: Final = 0.05
_UNIT_ROOT: Final = "Dickey–Fuller"
_BREAKS: Final[dict[Break, tuple[str, str]]] = {
    "chow": ("chow", "Chow test"),
    "sup-f": ("sup_f", "Quandt–Andrews sup-F test"),
    "cusum": ("cusum", "CUSUM test (recursive residuals)"),
}


@dataclass(frozen=True)
class Finding:
    """One test: its statistic and a sentence that interprets it.

    Attributes
    ----------
    key : str
        Stable name, such as ``breusch_godfrey``.
    test : str
        Printed name, which may change.
    statistic, p_value : float
    distribution : str
        Distribution of the statistic under the null hypothesis.
    meaning : str
    """

    key: str
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
        Recommended ``errors=`` for data of this persistence and length.
    persistence : float
        Largest first-order autocorrelation of the scores of a coefficient, corrected for bias.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> betas = ul.factor_betas(panel, ["market"])
    >>> fit = betas.fit("BRTW")
    >>> ul.diagnose(fit).to_frame()["p_value"].head(4).round(3)
    key
    breusch_godfrey    0.016
    breusch_pagan      0.195
    white              0.416
    jarque_bera        0.000
    Name: p_value, dtype: float64
    """

    findings: tuple[Finding, ...]
    basis: str
    recommended: str = "hac"
    persistence: float = np.nan

    alarms = RenamedAttribute("rejections")
    expected_alarms = RenamedAttribute("expected_rejections")

    def __getitem__(self, key: str) -> Finding:
        for finding in self.findings:
            if key in (finding.key, finding.test):
                return finding
        raise EstimationError(f"No test '{key}'; {one_of(key, (f.key for f in self.findings))}")

    @property
    def rejections(self) -> tuple[str, ...]:
        """Keys of the tests that reject at the 5 % level, excluding unit-root tests."""
        return tuple(f.key for f in self._tests if f.p_value < _LEVEL)

    @property
    def expected_rejections(self) -> float:
        """Number of rejections expected under correct specification."""
        return _LEVEL * len(self._tests)

    @property
    def _tests(self) -> list[Finding]:
        return [f for f in self.findings if not (np.isnan(f.p_value) or f.distribution == _UNIT_ROOT)]

    def _in_total(self) -> str:
        count = len(self._tests)
        some = 100.0 * (1.0 - (1.0 - _LEVEL) ** count)
        return (
            f"Rejections at the 5 % level: {len(self.rejections)} of {count} tests; "
            f"{self.expected_rejections:.2g} expected under correct specification ({some:.0f} % chance of at "
            "least one if the tests were independent)."
        )

    def to_frame(self) -> pd.DataFrame:
        """One row per test: name, statistic, distribution, p value, meaning.

        Returns
        -------
        DataFrame
            Tests by key.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> betas = ul.factor_betas(panel, ["market"])
        >>> fit = betas.fit("BRTW")
        >>> ul.diagnose(fit).to_frame()[["statistic", "p_value"]].head(2).round(3)
                         statistic  p_value
        key
        breusch_godfrey     24.843    0.016
        breusch_pagan        1.676    0.195
        """
        return pd.DataFrame([vars(f) for f in self.findings]).set_index("key")

    def __repr__(self) -> str:
        lines = [self.basis]
        for f in self.findings:
            p = "" if np.isnan(f.p_value) else p_equals(f.p_value)
            lines.append(f"{f.test:<38}{f.statistic:>12.4g}  {f.distribution:<14}{p}")
            lines += textwrap.wrap(f.meaning, 94, initial_indent="    ", subsequent_indent="    ")
        advice = (
            f"Recommended: errors='{self.recommended}' (largest first-order autocorrelation of the score "
            f"contributions {decimals(self.persistence)})."
        )
        return "\n".join([*lines, *textwrap.wrap(self._in_total(), 98), *textwrap.wrap(advice, 98)])


@validate_arguments
def diagnose(fit: Fit, *, lags: int | None = None, draws: int = 999, seed: int = 0) -> Diagnosis:
    """Regression diagnostics: autocorrelation, heteroskedasticity, normality, form, breaks, collinearity.

    Parameters
    ----------
    fit : Fit
        Estimated regression.
    lags : int, optional
        Order of the autocorrelation test; by default one year of months or quarters, otherwise 5.
    draws, seed : int
        Draws of the simulated p value of the sup-F test.

    Returns
    -------
    Diagnosis
        Findings by key: ``breusch_godfrey`` (residual autocorrelation; it replaces Durbin–Watson),
        ``breusch_pagan`` and ``white`` (heteroskedasticity; Koenker 1981, White 1980), ``jarque_bera``
        (normality), ``reset`` (functional form; Ramsey 1969), ``chow``, ``sup_f`` and ``cusum`` (structural
        breaks; Chow 1960, Andrews 1993, Brown, Durbin and Evans 1975), ``condition_number`` and ``vif``
        (multicollinearity; Belsley, Kuh and Welsch 1980), ``cooks_distance`` (influence; Cook 1977) and
        ``adf:NAME`` (unit root; Dickey and Fuller 1979) where a series may be non-stationary. Ljung–Box,
        ARCH-LM and KPSS tests are not computed.

    Examples
    --------
    >>> import ultrum as ul
    >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
    >>> diagnose(fit)["jarque_bera"].p_value < 0.05
    True
    """
    refuse_exact_fit(fit)
    X, y = fit.rows_by_weight()
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
        f"{fit.name} on {', '.join(_factors(fit))}: {quantity(fit.nobs, 'observation')}, {span}",
        _recommend_errors(fit, rho),
        rho,
    )


def _persistence(X: Floats, residuals: Floats, positions: Ints) -> float:
    """Largest first-order autocorrelation of the scores of the coefficients."""
    rho = score_autocorrelation(np.asarray(np.linalg.pinv(X), dtype=np.float64), residuals[:, None], positions)
    return float("nan") if np.isnan(rho).all() else float(np.nanmax(rho))


def _recommend_errors(fit: Fit, rho: float) -> str:
    """Kind of standard errors by persistence and length; given clusters are kept."""
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


def _chi2(key: str, test: str, statistic: float, df: int, rejected: str, not_rejected: str) -> Finding:
    p_value = float(scipy.special.chdtrc(df, max(statistic, 0.0)))
    return Finding(key, test, statistic, f"χ²({df})", p_value, rejected if p_value < _LEVEL else not_rejected)


def _autocorrelation(fit: Fit, X: Floats, residuals: Floats, order: int) -> Finding:
    """T·R² of the residuals on the regressors and their own lags, with zeros for absent lags."""
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
    if fit.errors in (*HAC, *COSINE):
        remedy = f"The standard errors in use (errors='{fit.errors}') allow for it."
    elif fit.errors in (*CLUSTERED, "clustered"):
        remedy = f"The standard errors in use (errors='{fit.errors}') allow for it within clusters only."
    else:
        remedy = "Use Newey–West standard errors (errors='hac')."
    return _chi2(
        "breusch_godfrey",
        f"Breusch–Godfrey LM test, {quantity(order, 'lag')}",
        statistic,
        order,
        f"Residuals are autocorrelated (H0: none up to lag {order}). {remedy} OLS stays consistent unless a "
        "lagged dependent variable is a regressor.",
        f"No evidence of residual autocorrelation up to lag {order}.",
    )


def _heteroskedasticity(fit: Fit, residuals: Floats) -> Finding:
    """Koenker's T·R² of the squared residuals on the regressors."""
    X = fit.design.to_numpy(dtype=np.float64)
    whole = X if CONSTANT in fit.design else np.column_stack([np.ones(len(X)), X])
    statistic = len(X) * _r2(residuals**2, whole)
    return _chi2(
        "breusch_pagan",
        "Breusch–Pagan LM test (Koenker)",
        statistic,
        whole.shape[1] - 1,
        f"Heteroskedasticity: the residual variance depends on the regressors. {_robust_advice(fit)}",
        "No evidence that the residual variance depends on the regressors.",
    )


def _robust_advice(fit: Fit) -> str:
    if fit.errors == "classical":
        return "Classical standard errors are invalid; use errors='hc3' or 'hac'."
    return f"The standard errors in use (errors='{fit.errors}') allow for it."


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
        "white",
        "White test (squares, cross products)",
        statistic,
        rank - 1,
        f"Heteroskedasticity of general form. {_robust_advice(fit)}",
        "No evidence of heteroskedasticity of general form.",
    )


def _normality(residuals: Floats) -> Finding:
    deviations = residuals - residuals.mean()
    spread = np.sqrt(np.mean(deviations**2)) or 1.0
    skew, kurtosis = np.mean((deviations / spread) ** 3), np.mean((deviations / spread) ** 4)
    statistic = float(len(deviations) / 6 * (skew**2 + (kurtosis - 3) ** 2 / 4))
    return _chi2(
        "jarque_bera",
        "Jarque–Bera normality test",
        statistic,
        2,
        f"Normality rejected (skewness {skew:.2f}, excess kurtosis {kurtosis - 3:.1f}). OLS stays consistent; "
        "exact t and F inference in small samples is approximate.",
        f"Normality not rejected (skewness {skew:.2f}, excess kurtosis {kurtosis - 3:.1f}).",
    )


def _form(fit: Fit, X: Floats, residuals: Floats) -> Iterator[Finding]:
    """Ramsey's RESET: whether powers of the fitted values are significant, with the standard errors of the
    fit.
    """
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
        "Linear specification rejected: powers of the fitted values are significant. Check for omitted "
        "nonlinearity, up- and down-market betas, or a missing factor."
        if p_value < _LEVEL
        else "No evidence of functional-form misspecification."
    )
    form = "" if fit.errors == "classical" else ", robust"
    yield Finding("reset", f"Ramsey RESET (ŷ², ŷ³){form}", statistic, f"F(2, {below})", p_value, meaning)


def _f_of_terms(X: Floats, added: Floats, residuals: Floats) -> float:
    """F statistic of added terms under homoskedasticity."""
    both = np.column_stack([X, added])
    left = projection_residuals(both, residuals)
    rest, below = float(left @ left), len(X) - both.shape[1]
    gained = float(residuals @ residuals) - rest
    return gained / added.shape[1] / (rest / below) if rest > 0 else 0.0


def _breaks(fit: Fit, draws: int, seed: int) -> Iterator[Finding]:
    for how, (key, label) in _BREAKS.items():
        try:
            test = break_test(fit, how=how, draws=draws, seed=seed)
        except EstimationError as error:
            yield Finding(key, label, np.nan, "", np.nan, f"Not tested. {error}")
            continue
        date = period_label(test.at) if how == "chow" else ""
        rejected, not_rejected = {
            "chow": (
                f"Coefficients differ before and from {date} (structural break).",
                "Equal coefficients in both subsamples not rejected.",
            ),
            "sup-f": (
                f"Structural break, most likely {test.note}. Estimate subsamples, or a rolling or state-space "
                "beta.",
                "No evidence of a break at an unknown date.",
            ),
            "cusum": (
                "The CUSUM crosses the 5 % bound: coefficients are not stable over time.",
                "Parameter stability not rejected.",
            ),
        }[how]
        meaning = rejected if test.p_value < _LEVEL else not_rejected
        dated = f"{label}, break at {date}" if date else label
        yield Finding(key, dated, test.statistic, test.distribution, test.p_value, meaning)


def _copies(fit: Fit) -> Iterator[Finding]:
    condition, factors = fit.condition_number, _factors(fit)
    if len(factors) < 2:
        return
    meaning = (
        "Above 30: near-collinear regressors (multicollinearity; Belsley, Kuh and Welsch 1980)."
        if condition > 30
        else "Below 30: no harmful collinearity."
    )
    yield Finding("condition_number", "Condition number (scaled X)", condition, "", np.nan, meaning)
    inflated = inflation(fit.design[factors].to_numpy(dtype=np.float64), CONSTANT in fit.design)
    worst = int(np.argmax(inflated))
    error = np.sqrt(inflated[worst])
    yield Finding(
        "vif",
        f"Largest VIF: {factors[worst]}",
        float(inflated[worst]),
        "",
        np.nan,
        f"The standard error of {factors[worst]} is {error:.2f} times that with orthogonal factors."
        + (" VIF ≥ 10: multicollinearity." if inflated[worst] >= 10 else ""),
    )


def _influence(fit: Fit) -> Finding:
    table = fit.influence()
    row = table["cooks_distance"].fillna(0.0).to_numpy().argmax()
    cook, label = float(table["cooks_distance"].iloc[row]), period_label(table.index[int(row)])
    wild = int((table["studentised"].abs() > 4).sum())
    meaning = "Influential observation (D ≥ 1); inspect it." if cook >= 1 else "No observation with D ≥ 1."
    if wild:
        meaning += f" Externally studentised residuals beyond ±4: {wild}."
    return Finding("cooks_distance", f"Largest Cook's distance: {label}", cook, "", np.nan, meaning)


def _unit_roots(fit: Fit) -> Iterator[Finding]:
    """Unit-root tests of apparent levels, and of the residuals of a regression on levels."""
    names = [str(fit.name), *_factors(fit)]
    columns = [fit.response, *(fit.design[factor] for factor in _factors(fit))]
    series = [column.to_numpy(dtype=np.float64) for column in columns]
    suspects = [(n, v) for n, v in zip(names, series, strict=True) if is_persistent(v)]
    for name, values in suspects:
        test = dickey_fuller(values, trend=True, positions=time_positions(fit.design.index))
        yield Finding(
            f"adf:{name}",
            f"ADF test, {name} (trend, {quantity(test.lags, 'lag')})",
            test.statistic,
            _UNIT_ROOT,
            test.p_value,
            "Unit root rejected: trend-stationary."
            if test.p_value < _LEVEL
            else f"Unit root not rejected: {name} may be non-stationary; regressions of levels may be spurious "
            "(Granger and Newbold 1974). Use growth rates or first differences.",
        )
