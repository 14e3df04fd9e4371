"""Two-pass regressions (Fama and MacBeth 1973), and risk premia of single stocks by instrumental variables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import accepts_large, refuse_idle_options, validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.presentation import decimals, p_equals, percent, quantity
from ultrum.core.pricing.cross_sections import WINDOW, Exposure, cross_sections
from ultrum.core.pricing.factor_betas_and_shrinkage import chosen_factors, factor_betas
from ultrum.core.pricing.two_pass_result import (
    KINDS_IN_WORDS,
    WEAK,
    Balanced,
    Slopes,
    TwoPass,
    TwoPassPlan,
    two_pass_of,
)
from ultrum.core.pricing.two_pass_standard_errors import (
    bootstrap_covariance,
    equal_betas_test,
    misspecification_robust,
    shanken,
)
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.least_squares import refuse_combinations
from ultrum.core.regression.inference import CoefficientInference, TestResult
from ultrum.core.regression.inputs import CONSTANT, numbers_of
from ultrum.core.regression.regress import regress
from ultrum.core.regression.rolling_regression import rolling_regress
from ultrum.core.series.time_series import SeriesTable
from ultrum.core.time.index_frequency_and_gaps import time_positions
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.errors import EstimationError, name_list, warn_user

TwoPassErrors = Literal["fama_macbeth", "newey_west", "hac", "shanken", "bootstrap", "misspecification"]


def balance_panel(panel: Panel, names: Sequence[str]) -> Balanced | None:
    """Excess returns and factors of the assets with every period that has all factors; none if too few."""
    F = panel.factors[list(names)].to_numpy(dtype=np.float64)
    whole = np.isfinite(F).all(axis=1)
    returns = panel.assets.to_numpy(dtype=np.float64) - panel.risk_free.to_numpy()[:, None]
    some = np.isfinite(returns).sum(axis=1) > returns.shape[1] / 2  # not the rows before the first returns
    rows = whole & some
    kept = np.isfinite(returns[rows]).all(axis=0)
    enough = rows.sum() > kept.sum() + len(names) + 1 and kept.sum() > len(names) + 1
    if not enough:
        return None
    assets = [a for a, k in zip(panel.asset_names, kept, strict=True) if k]
    return Balanced(returns[np.ix_(rows, kept)], F[rows], assets, panel.assets.index[rows])


def check_balance(panel: Panel, data: Balanced | None, constant: bool, names: Sequence[str]) -> None:
    """Refuse misspecification-robust standard errors where they are not defined."""
    if not constant:
        raise EstimationError(
            "two_pass: errors='misspecification' and weighting='gls' need a constant in the cross-sections. Set "
            "constant=True."
        )
    if data is None:
        raise EstimationError(
            "two_pass: errors='misspecification' and weighting='gls' need a balanced panel with more periods "
            "than assets, "
            "beta_sample='full' and no characteristics. Change these, or remove errors and weighting."
        )
    returns = panel.assets.to_numpy(dtype=np.float64)
    some = np.isfinite(returns).any(axis=1) & np.isfinite(panel.factors.loc[:, names]).all(axis=1)
    complete = pd.DataFrame(np.isfinite(returns), columns=panel.asset_names)[some.to_numpy()].all()
    absent = [a for a in panel.asset_names if not complete[a]]
    if absent:
        raise EstimationError(
            "two_pass: errors='misspecification' and weighting='gls' need assets with complete histories; "
            f"{name_list(absent)} lack periods. Align the others alone: align(assets=returns.select([...]), ...)."
        )


def test_identification(
    fit: TwoPass, returns: Floats, F: Floats, plan: TwoPassPlan, data: Balanced | None
) -> TwoPass:
    """The result with the test of equal betas; warns where a factor is weak."""
    rows = np.isfinite(F).all(axis=1)
    test = equal_betas_test(returns[rows], F[rows], plan.constant)
    if test is None:
        return without_test(fit, "too few assets have 24 observations")
    main = plan.factors[int(np.abs(test.weakest).argmax())]
    result = TestResult(
        test.statistic,
        f"χ²({test.df:.1f})",
        (test.df,),
        test.p_value,
        f"weakest in {main}; {quantity(test.assets, 'asset')}",
        f"a combination of betas is {'equal across' if plan.constant else 'zero for all'} assets",
    )
    if test.p_value > WEAK:
        differ = "hardly differ across assets" if plan.constant else "are hardly different from zero"
        warn_user(
            f"Weak factor: the betas on {main} {differ}, so its risk premium is not identified and t statistics "
            f"mislead (test of {'equal' if plan.constant else 'zero'} betas, {p_equals(test.p_value)}).",
            fix="Drop the factor, or read robust_sets().",
            setting="weak_factor",
        )
    return replace(fit, identification=result, balanced=data)


def without_test(fit: TwoPass, why: str) -> TwoPass:
    """The result with the reason why identification is not tested."""
    return replace(fit, basis=f"{fit.basis}; identification not tested: {why}")


def with_robust_errors(estimate: TwoPass, data: Balanced, gls: bool, lags: int) -> TwoPass:
    """The result with Kan–Robotti–Shanken standard errors, and with GLS premia if requested."""
    positions = time_positions(data.index)
    robust = misspecification_robust(data.returns, data.factors, gls, lags, positions)
    index = estimate.premia.index
    error = np.sqrt(np.diag(robust.covariance))
    if gls:
        estimate = replace(
            estimate,
            errors=pd.DataFrame(np.nan, index, estimate.errors.columns),
            slopes=pd.DataFrame(robust.slopes, data.index, index),
            pricing=estimate.pricing.assign(
                predicted=robust.predicted, error=estimate.pricing["realised"] - robust.predicted
            ),
            bias=estimate.bias * np.nan,
        )
    fit = f"R² {decimals(robust.r2)} (standard error {decimals(robust.r2_error)})"
    pricing_error = float(np.sqrt(np.mean(estimate.pricing["error"] ** 2)))
    reworded = {
        "t values on": f"t values on {KINDS_IN_WORDS['misspecification']} standard errors",
        "root mean": f"root mean square pricing error {percent(pricing_error, 3)} % per period",
    }
    basis = "; ".join(
        next((new for old, new in reworded.items() if part.startswith(old)), part)
        for part in estimate.basis.split("; ")
    )
    words = f"{'GLS' if gls else 'OLS'} cross-section; {fit}"
    return replace(
        estimate,
        premia=pd.Series(robust.premia, index),
        covariance=pd.DataFrame(robust.covariance, index, index),
        errors=estimate.errors.assign(misspecification=error),
        kind="misspecification",
        r2=robust.r2,
        r2_error=robust.r2_error,
        basis=f"{basis}; {words}",
    )


def with_errors(estimate: TwoPass, errors: str, covariances: Mapping[str, Floats]) -> TwoPass:
    """The result with another of the estimated kinds of standard errors."""
    errors = "newey_west" if errors == "hac" else errors
    if errors not in covariances:
        there = ", ".join(covariances)
        raise EstimationError(
            f"two_pass: errors='{errors}' is unavailable for these betas and this panel. Use one of {there}."
        )
    index = estimate.premia.index
    parts = [
        f"t values on {KINDS_IN_WORDS[errors]} standard errors" if p.startswith("t values on") else p
        for p in estimate.basis.split("; ")
    ]
    return replace(
        estimate, covariance=pd.DataFrame(covariances[errors], index, index), kind=errors, basis="; ".join(parts)
    )


# Two-pass regressions: betas first, then returns on betas in every period


@accepts_large("panel")
@validate_arguments
def two_pass(
    panel: Panel,
    factors: Sequence[str] | None = None,
    *,
    characteristics: Mapping[str, pd.DataFrame] | None = None,
    beta_sample: Literal["full", "rolling"] = "full",
    window: int | None = None,
    constant: bool = True,
    lags: int | None = None,
    errors: TwoPassErrors | None = None,
    weighting: Literal["ols", "gls"] = "ols",
    draws: int = 999,
    seed: int = 0,
) -> TwoPass:
    """Factor risk premia by two-pass cross-sectional regressions (Fama and MacBeth 1973).

    The test of equal betas shows whether a factor is weak, so that its premium is not identified.

    Parameters
    ----------
    panel : Panel or LongPanel
        Aligned returns, factors and risk-free return.
    factors : sequence of str, optional
        All of the panel by default; an empty list for characteristics alone.
    characteristics : mapping of str to DataFrame, optional
        Characteristic of each asset at the end of each row; it explains the next row's return.
    beta_sample : {"full", "rolling"}
        Over each asset's full sample, or over the ``window`` that ends one period before.
    window : int, optional
        Periods of rolling betas, by default 60.
    constant : bool
        Whether the cross-sections have a constant.
    lags : int, optional
        Lags of the Newey–West standard errors of the mean slopes, by default floor(4(T/100)^(2/9)); for
        misspecification-robust ones, by default none.
    errors : {"fama_macbeth", "newey_west", "shanken", "bootstrap", "misspecification"}, optional
        Standard errors behind the t values; by default as below. ``"hac"`` is another name of ``"newey_west"``.
        ``misspecification`` (Kan, Robotti and Shanken 2013) is valid even where the model does not price the
        assets; it needs full-sample betas of a balanced panel.
    weighting : {"ols", "gls"}
        Weighting of the cross-section: equal, or by the inverse covariance of returns; ``gls`` uses the standard
        errors ``misspecification``.
    draws, seed : int
        Options of the bootstrap over periods, used where Shanken's standard errors are unavailable.

    Returns
    -------
    TwoPass
        With full-sample betas of a balanced panel, t values use Shanken (1992) standard errors, (1 + c)(V − Σf/T)
        + Σf/T with c = γ'Σf⁻¹γ. In an unbalanced panel, standard errors with full-sample betas come from a
        bootstrap that resamples periods and repeats both passes. With rolling betas or characteristics alone they
        are Newey–West; so they are for full-sample betas of an unbalanced panel on disk, where they ignore the
        estimation error of the betas, as the basis states.

    Raises
    ------
    EstimationError
        If no period has more assets than coefficients, or the panel does not allow the requested standard errors.

    Warns
    -----
    DataWarning
        If a factor is weak: the test does not reject (p > 0.02) that some combination of the factors has the same
        beta for all assets, or without a constant a beta of zero. Then t values are unreliable; see
        :meth:`TwoPass.robust_sets`.

    Notes
    -----
    Estimation errors of the betas bias premia towards zero (errors-in-variables); the bias −(X'X)⁻¹(ΣVᵢ)γ̂ is
    estimated from the covariances of the betas and reported, not subtracted. See docs/formulas.md.

    Examples
    --------
    >>> import ultrum as ul
    >>> made = two_pass(ul.practice.panel(), ["market"], draws=99)
    >>> list(made.premia.index), made.kind
    (['constant', 'market'], 'bootstrap')
    """
    panel.check_excess("A two-pass estimate of premia")
    if beta_sample == "full":
        refuse_idle_options("beta_sample='full'", window=window)
    window = WINDOW if window is None else window
    plan = TwoPassPlan.of(panel, factors, characteristics, beta_sample, window, constant, lags)
    names, given = plan.factors, dict(characteristics or {})
    table = factor_betas(panel, names, errors="classical") if plan.whole_sample else None
    data = balance_panel(panel, names) if table is not None and not given else None
    robust = weighting == "gls" or errors == "misspecification"
    if data is not None:
        _refuse_copies(data, weighting == "gls")
    if robust:
        check_balance(panel, data, constant, names)
    exposures = [
        *_betas(panel, names, table, window),
        *(characteristic(panel.assets.index, list(panel.assets), n, f) for n, f in given.items()),
    ]
    returns = panel.assets.to_numpy(dtype=np.float64) - panel.risk_free.to_numpy()[:, None]
    if plan.whole_sample:  # both passes use the periods that have every factor
        returns[~np.isfinite(panel.factors[names].to_numpy(dtype=np.float64)).all(axis=1)] = np.nan
    sections = cross_sections(returns, exposures, constant)
    slopes = Slopes.of(sections, plan, panel.risk_free.index)
    covariances = slopes.plain(plan)
    kind = "newey_west"
    if table is not None:
        F = panel.factors[names].to_numpy(dtype=np.float64)
        whole = np.isfinite(F).all(axis=1) & np.isfinite(returns).any(axis=1)
        positions = time_positions(panel.risk_free.index)
        kind = "shanken" if np.isfinite(returns[whole]).all() and not given else "bootstrap"
        others = [e.drawn(np.flatnonzero(whole)) for e in exposures[len(names) :]]
        covariances[kind] = (
            shanken(covariances["fama_macbeth"], slopes.mean, F[slopes.kept], constant)
            if kind == "shanken"
            else bootstrap_covariance(returns[whole], F[whole], others, positions[whole], constant, draws, seed)
        )
    estimate = two_pass_of(panel, plan, sections, slopes, covariances, kind, table)
    if table is not None and not given:
        estimate = test_identification(estimate, returns, panel.factors[names].to_numpy(float), plan, data)
    elif names:
        estimate = without_test(estimate, "characteristics" if given else "rolling betas")
    if robust and data is not None:
        return with_robust_errors(estimate, data, weighting == "gls", plan.lags or 0)
    if errors == "shanken" and kind != errors:
        raise EstimationError(_why_not_shanken(panel, plan, bool(given)))
    return estimate if errors is None else with_errors(estimate, errors, covariances)


def _refuse_copies(data: Balanced, gls: bool) -> None:
    """Refuse copies and mixes of other assets; by GLS also assets that do not move. A factor may be an asset."""
    if gls:
        refuse_combinations("two_pass", data.returns, np.ones((len(data.returns), 1)), data.assets)
        return
    moving = np.flatnonzero(np.abs(data.returns).max(axis=0) > 0)
    nothing = np.empty((len(data.returns), 0))
    refuse_combinations("two_pass", data.returns[:, moving], nothing, [data.assets[k] for k in moving])


def _why_not_shanken(panel: Panel, plan: TwoPassPlan, has_characteristics: bool) -> str:
    """The refusal of Shanken's errors, which hold for full-sample betas of a balanced panel."""
    if not plan.whole_sample:
        reason = "they hold for full-sample betas; leave beta_sample out, or use errors='newey_west'"
    elif has_characteristics:
        reason = "they have no term for characteristics. Use errors='bootstrap'"
    else:
        absent = panel.assets.isna().to_numpy()
        missing = absent[~absent.all(axis=1)].sum(axis=0)
        most = int(np.argmax(missing))
        lacks = f"{panel.asset_names[most]} lacks {quantity(int(missing[most]), 'period')}"
        reason = f"they need every return, and {lacks}. Use errors='bootstrap'"
    return f"two_pass: errors='shanken' is unavailable: {reason}."


# Premia of single stocks by instrumental variables


def _betas(panel: Panel, names: list[str], table: BetaTable | None, window: int) -> list[Exposure]:
    """Exposures to each factor: one number per asset, or the value known one row before."""
    if table is not None:
        return [Exposure(table.coefficients[n].to_numpy()) for n in names]
    return moving_betas(panel.excess, panel.factor_table.select(names), window) if names else []


def moving_betas(excess: SeriesTable, factors: SeriesTable, window: int) -> list[Exposure]:
    """Betas of the window that ended one row before, for each factor."""
    rolled = rolling_regress(excess, factors, window=window, errors="classical")
    rows = _rows_before(excess.index, rolled.ends)
    return [Exposure(rolled.frame("coefficients", n).to_numpy(), rows) for n in factors.names]


def refuse_other(name: str, given: object) -> None:
    """Refuse a characteristic that is not a DataFrame."""
    if not isinstance(given, pd.DataFrame):
        raise EstimationError(
            f"The characteristic {name} is a {type(given).__name__}. Use a DataFrame with a column for each "
            "asset."
        )


def characteristic(index: pd.Index, assets: list[Any], name: str, frame: pd.DataFrame) -> Exposure:
    """A characteristic of some assets, lagged one row."""
    refuse_other(name, frame)
    absent = pd.Index(assets).difference(frame.columns, sort=False)
    if len(absent):
        raise EstimationError(f"The characteristic {name} lacks {name_list(absent)}.")
    if not frame.index.is_unique:
        twice = period_label(frame.index[frame.index.duplicated()][0])
        raise EstimationError(f"The characteristic {name} has {twice} twice. Keep one row of each.")
    rows = _rows_before(index, frame.index)
    if not (rows >= 0).any():
        raise EstimationError(
            f"The characteristic {name} has no period in common with the panel. Convert it to the panel's "
            "frequency."
        )
    ordered = frame if frame.columns.equals(pd.Index(assets)) else frame[assets]
    return Exposure(numbers_of(ordered, name), rows)


def _rows_before(index: pd.Index, releases: pd.Index) -> Ints:
    """For each period of the panel the row known one calendar period before; −1 for none."""
    if isinstance(index, pd.PeriodIndex):
        return np.asarray(releases.get_indexer(index - 1), dtype=np.int64)
    positions = time_positions(index)
    before = np.concatenate([[-1], releases.get_indexer(index)[:-1]])
    return np.where(np.diff(positions, prepend=positions[:1]) == 1, before, -1).astype(np.int64)


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
    halves = [_betas_of_months(panel, names, rows, beta_sample, window) for rows in (odd, ~odd)]
    sums = _sums(returns, halves, odd, beta_sample == "full")
    terms = [CONSTANT, *names]
    kept = np.flatnonzero(sums.counts > 2 * len(terms))
    if len(kept) < _FEWEST:
        raise EstimationError(
            f"instrumented_premia: {len(kept)} periods have enough assets with odd- and even-month betas; at "
            f"least {_FEWEST} are needed. Use a longer sample or more assets."
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


def _betas_of_months(panel: Panel, names: list[str], rows: Bools, beta_sample: str, window: int) -> Floats:
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
