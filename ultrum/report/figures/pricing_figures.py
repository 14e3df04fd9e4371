"""Figures of time-varying betas, breaks, premia, peers and sensitivity."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ultrum.core.array_types import Array, Bools, Floats, Ints
from ultrum.core.model_comparison.beta_forecasts import BetaForecasts
from ultrum.core.presentation import capitalise, decimals, p_equals, true_minus
from ultrum.core.pricing.kalman_beta import FilteredBetas
from ultrum.core.pricing.peers_and_leverage import PeerBeta
from ultrum.core.pricing.sensitivity import CHOICES, BetaSensitivity
from ultrum.core.pricing.time_varying_betas import ConditionalBetas
from ultrum.core.pricing.two_pass_result import TwoPass
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.rolling_regression import RollingFit
from ultrum.core.regression.structural_breaks import SUP_F, BreakTest
from ultrum.core.time.period_labels_and_relative_dates import period_label, span_of
from ultrum.errors import UltrumError
from ultrum.report.figures.figure_style import (
    INK,
    LANTERN,
    LINES,
    MIST,
    STONE,
    TIDE,
    axes_for,
    figure_function,
    foot,
    heading,
    legend_above,
    names_apart,
    points,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@figure_function
def beta_path(
    betas: RollingFit | FilteredBetas | ConditionalBetas,
    asset: str,
    *,
    term: str | None = None,
    level: float = 0.95,
    whole: float | None = None,
    marks: dict[str, object] | None = None,
    source: str = "",
    ax: Axes | None = None,
) -> Axes:
    """Beta of one asset over time with its confidence band.

    Parameters
    ----------
    betas : RollingFit, FilteredBetas or ConditionalBetas
        Estimated betas.
    asset : str
        Name of the asset.
    term : str, optional
        Factor of a rolling fit; by default the first one.
    level : float
        Confidence level, between 0 and 1.
    whole : float, optional
        A full-sample beta, as a broken line.
    marks : dict of label to date, optional
        Dates to mark by a line.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw on; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> beta_path(ul.kalman_beta(ul.practice.panel()), "MRWG").get_title(loc="left")
    'Beta of MRWG as a random walk'
    """
    if isinstance(betas, RollingFit):
        path, basis = betas.interval(asset, term, level), betas.basis
        title = f"{capitalise(term or _first(betas))} beta of {asset} in rolling windows"
    else:
        path, basis = betas.interval(asset, level), betas.basis
        kind = (
            "as a random walk"
            if isinstance(betas, FilteredBetas)
            else "conditional on the variables known before each period"
        )
        title = f"Beta of {asset} {kind}"
    ax = axes_for(ax)
    x = _dates(path.index)
    band = f"{100 * level:g} % band"
    ax.fill_between(x, path["low"], path["high"], color=TIDE, alpha=0.16, linewidth=0, label=band)
    ax.plot(x, path["estimate"], color=TIDE, linewidth=2, label="beta")
    if whole is not None:
        ax.axhline(
            whole, color=STONE, linewidth=1.2, linestyle=(0, (5, 3)), label=f"whole sample: {decimals(whole)}"
        )
    for k, (name, date) in enumerate((marks or {}).items()):
        ax.axvline(_day(date), color=LINES[(k + 1) % len(LINES)], linewidth=1.4, label=name)
    ax.set_ylabel("beta")
    ax.set_title(title)
    ax.legend(loc="best", fontsize=points(9))
    foot(ax, span_of(path.dropna().index), basis, source=source)
    return ax


@figure_function
def break_path(test: BreakTest, *, source: str = "", ax: Axes | None = None) -> Axes:
    """Path of the statistic of a break test, with its 5 % critical values.

    Parameters
    ----------
    test : BreakTest
        Result of :func:`ultrum.break_test`.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("MRWG")
    >>> break_path(ul.break_test(fit, how="sup-f", draws=99)).get_ylabel()
    'F of a break at each date'
    """
    if not len(test.path):
        raise UltrumError("The Chow test at one date has no path. Use how='sup-f' or how='cusum'.")
    ax = axes_for(ax)
    x = _dates(test.path.index)
    ax.plot(x, test.path, color=TIDE, linewidth=1.8)
    for side in ("low", "high"):
        bound = test.bounds[side].to_numpy(dtype=np.float64)
        if np.isfinite(bound).all():
            label = "5 % bound" if side == "high" else None
            ax.plot(x, bound, color=STONE, linewidth=1.2, linestyle=(0, (5, 3)), label=label)
    place = x[test.path.index.get_loc(test.at)]
    break_text = f"{period_label(test.at)}, {p_equals(test.p_value)}"
    if test.between is not None and test.p_value < 0.05:
        ends = _dates(
            pd.Index(test.between)
            if not isinstance(test.path.index, pd.PeriodIndex)
            else pd.PeriodIndex(test.between)
        )
        ax.axvspan(*ends, color=LANTERN, alpha=0.14, linewidth=0, label="95 % interval of the date")
    ax.plot([place], [test.path.loc[test.at]], "o", color=LANTERN, label=break_text)
    largest = test.distribution == SUP_F
    ax.set_ylabel("F of a break at each date" if largest else "cumulated recursive residuals, deviations")
    ax.set_title(f"{test.name}: {'a break at an unknown date' if largest else 'drift of the coefficients'}")
    ax.legend(loc="best", fontsize=points(9))
    foot(ax, span_of(test.path.index), source=source)
    return ax


@figure_function
def predicted_against_realised(result: TwoPass, *, source: str = "", ax: Axes | None = None) -> Axes:
    """Realised against predicted mean excess return of each asset.

    Parameters
    ----------
    result : TwoPass
        Result of :func:`ultrum.two_pass`.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> ax = predicted_against_realised(ul.two_pass(ul.practice.panel(), draws=49))
    >>> ax.get_xlabel()
    'Predicted mean excess return, % per year'
    """
    shown = result.pricing.dropna()
    percent = 100 * result.periods_per_year
    x, y = (percent * shown[c].to_numpy() for c in ("predicted", "realised"))
    ax = axes_for(ax, 6.2)
    across, up = _room(x), _room(y)
    ends = (min(across[0], up[0]), max(across[1], up[1]))
    ax.plot(ends, ends, color=STONE, linewidth=1.2, linestyle=(0, (5, 3)), label="predicted = realised")
    ax.scatter(x, y, color=TIDE, s=30, zorder=3)
    ax.set_xlim(*across)
    ax.set_ylim(*up)
    ax.legend(loc="lower right", fontsize=points(9))
    ax.set_xlabel("Predicted mean excess return, % per year")
    ax.set_ylabel("Realised mean excess return, % per year")
    r2 = round(result.r2, 2) + 0.0  # no minus before a zero
    ax.set_title(true_minus(f"Realised against predicted mean excess returns; cross-sectional R² {decimals(r2)}"))
    foot(ax, result.basis, source=source)
    names_apart(ax, x, y, [str(n) for n in shown.index])
    return ax


def _room(values: Floats) -> tuple[float, float]:
    """Limits of an axis: the values, and room for a label at each end."""
    low, high = float(values.min()), float(values.max())
    edge = 0.12 * (high - low) or 0.1 * abs(high) or 1.0
    return low - edge, high + edge


@figure_function
def sensitivity(
    result: BetaSensitivity, *, forecasts: BetaForecasts | None = None, source: str = "", ax: Axes | None = None
) -> Axes:
    """Beta of every specification, sorted, with its choices; the base case and a published beta are marked.

    Parameters
    ----------
    result : BetaSensitivity
        Result of :func:`ultrum.beta_sensitivity`.
    forecasts : BetaForecasts, optional
        Result of :func:`ultrum.evaluate_betas`: choices that forecast worse than the best are pale, those without
        a forecast hollow, so that picking is visible.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> whole = (panel.factors["market"] + panel.risk_free).rename("index")
    >>> made = ul.beta_sensitivity(
    ...     ul.SeriesTable.from_pandas(panel.assets, measure="return"),
    ...     ul.TimeSeries.from_pandas(whole, measure="return"),
    ...     "BRTW", risk_free=panel.rate, frequencies=["M", "Q"], windows=["P5Y", "P10Y"])
    >>> len(sensitivity(made).get_yticks()) > 5
    True
    """
    table = result.to_frame().dropna(subset=["beta"]).sort_values("beta", kind="stable").reset_index(drop=True)
    options = [(c, v) for c in CHOICES if table[c].nunique() > 1 for v in dict.fromkeys(result.table[c])]
    ax = axes_for(ax, 4.4, per_row=0.26, rows=len(options))
    x = np.arange(len(table))
    reach = float(table["beta"].max() - table["beta"].min()) or 1.0
    low = table["low"].clip(lower=table["beta"].min() - reach)
    high = table["high"].clip(upper=table["beta"].max() + reach)
    ax.vlines(x, low, high, color=MIST, linewidth=1.6)
    chosen = table["own"].to_numpy(dtype=bool)
    ax.scatter(x[~chosen], table["beta"][~chosen], s=22, color=TIDE, zorder=3)
    ax.scatter(x[chosen], table["beta"][chosen], s=60, color=LANTERN, zorder=4, marker="D")
    _say(ax, x[chosen], table["beta"][chosen], f"base case {decimals(result.base_case['beta'])}")
    if result.published is not None:
        ax.axhline(result.published, color=INK, linewidth=1.2, linestyle=(0, (5, 3)))
        ax.annotate(
            f"published {decimals(result.published)}",
            (x[-1], result.published),
            xytext=(0, -12),
            textcoords="offset points",
            ha="right",
            fontsize=points(9),
            color=INK,
        )
    if forecasts is not None:
        _shade_by_error(ax, x, table, forecasts)
    _mark_choices(ax, table, options, chosen)
    ax.set_title(f"Beta of {result.asset} under {len(table)} specifications")
    bars = f"bars: 95 % intervals, {errors_in_words(result.errors)}"
    shaded = "" if forecasts is None else "filled: forecasts best; pale: forecasts worse; hollow: not evaluated"
    foot(ax, f"data to {period_label(result.end)}", bars, shaded, source=source)
    return ax


def _shade_by_error(ax: Axes, x: Ints, table: pd.DataFrame, forecasts: BetaForecasts) -> None:
    """Cover the marks of choices that do not forecast well with pale ones; hollow where nothing is known."""
    keys = table[["window", "frequency", "adjustment", "estimator"]].agg(", ".join, axis=1)
    known = forecasts.table.reindex(keys)
    best = known["included"].fillna(value=False).to_numpy(dtype=bool)
    worse = known["mse"].notna().to_numpy() & ~best
    unknown = known["mse"].isna().to_numpy()
    ax.scatter(x[worse], table["beta"][worse], s=24, color=MIST, edgecolors=STONE, linewidths=0.8, zorder=3.5)
    ax.scatter(
        x[unknown], table["beta"][unknown], s=24, color="white", edgecolors=STONE, linewidths=0.8, zorder=3.5
    )


def _mark_choices(ax: Axes, table: pd.DataFrame, options: list[tuple[str, str]], is_chosen: Bools) -> None:
    """Below the betas one line of dots for each value of each choice."""
    low, high = ax.get_ylim()
    step = 0.062 * (high - low)
    ticks = [t for t in ax.get_yticks() if low <= t <= high]
    places, names, row = list(ticks), [f"{t:g}" for t in ticks], low - step
    last, rows_named = options[0][0] if options else "", list[str]()
    for choice, value in options:
        row -= step * (1.7 if choice != last else 1.0)
        if choice != last or not rows_named:
            rows_named.append(choice)
            ax.text(
                -0.5, row + 0.55 * step, choice, fontsize=points(8.5), color=STONE, style="italic", va="center"
            )
        last = choice
        chosen = (table[choice] == value).to_numpy()
        ax.scatter(
            np.flatnonzero(chosen & ~is_chosen),
            np.full((chosen & ~is_chosen).sum(), row),
            s=16,
            color=STONE,
            marker="s",
            linewidths=0,
        )
        ax.scatter(
            np.flatnonzero(chosen & is_chosen),
            np.full((chosen & is_chosen).sum(), row),
            s=44,
            color=LANTERN,
            marker="D",
            zorder=4,
        )
        places.append(row)
        names.append(f"{value}")
    ax.axhline(low - 0.5 * step, color=STONE, linewidth=0.8)
    ax.set_yticks(places, names, fontsize=points(9))
    ax.set_ylim(row - 1.5 * step, high)
    ax.set_xticks([])
    ax.set_ylabel("beta", y=(low + (high - low) / 2 - row) / (high - row), ha="center")
    ax.grid(visible=False, axis="x")


def _say(ax: Axes, x: Array, y: pd.Series, text: str) -> None:
    if not len(x):
        return
    place = (float(x[0]), float(y.iloc[0]))
    line = {"arrowstyle": "-", "color": LANTERN, "linewidth": 0.8}
    ax.annotate(
        text,
        place,
        xytext=(0, -34),
        textcoords="offset points",
        ha="left",
        fontsize=points(9),
        color=LANTERN,
        fontweight="bold",
        arrowprops=line,
    )


@figure_function
def peers(result: PeerBeta, *, level: float = 0.95, source: str = "", ax: Axes | None = None) -> Axes:
    """Levered and unlevered beta of each peer, the average asset beta, and the company's own beta.

    Parameters
    ----------
    result : PeerBeta
        Result of :func:`ultrum.peer_beta`.
    level : float
        Confidence level of the intervals drawn.
    source : str
        Source of the data, stated in the caption.
    ax : Axes, optional
        Axes to draw into; by default those of a new figure.

    Returns
    -------
    Axes
        Axes with the drawing.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = ul.peer_beta(table, ["EBMK", "CSHW", "SLTM"], debt_to_equity=1.0, target_debt_to_equity=0.9)
    >>> peers(made).get_xlabel()
    'beta'
    """
    shown = result.peers.sort_values("unlevered", kind="stable")
    ax = axes_for(ax, 1.56, per_row=0.42, rows=len(shown) + 2)
    rows = np.arange(len(shown)) + 2.0
    ax.hlines(rows, shown["unlevered"], shown["beta"], color=MIST, linewidth=3)
    ax.scatter(shown["beta"], rows, color=STONE, s=34, label="levered (equity) beta", zorder=3)
    ax.scatter(shown["unlevered"], rows, color=TIDE, s=34, label="unlevered", zorder=3)
    spread = result.reach(level)
    ax.axvspan(result.asset_beta - spread, result.asset_beta + spread, color=TIDE, alpha=0.10, linewidth=0)
    ax.axvline(result.asset_beta, color=TIDE, linewidth=1.2, linestyle=(0, (5, 3)))
    ax.hlines(0.6, *result.interval(level), color=LANTERN, linewidth=2)
    ax.scatter(
        [result.beta], [0.6], color=LANTERN, s=60, marker="D", zorder=4, label="relevered at the target D/E"
    )
    labels = [f"{name}  (D/E {decimals(row['debt_to_equity'])})" for name, row in shown.iterrows()]
    ax.set_yticks([0.6, *rows], [f"company: {decimals(result.beta)}", *labels])
    ax.tick_params(axis="y", length=0)
    ax.grid(visible=False, axis="y")
    ax.set_ylim(-0.2, rows[-1] + 1.4)
    ax.set_xlabel("beta")
    rows_of_legend = legend_above(ax, *ax.get_legend_handles_labels())
    title = f"{len(shown)} peers: asset (unlevered) beta {decimals(result.asset_beta)}"
    heading(ax, title, legend_rows=rows_of_legend)
    foot(ax, result.basis, f"bars: {100 * level:g} % intervals", source=source)
    return ax


def _first(fit: RollingFit) -> str:
    return next((t for t in fit.terms if t != "constant"), fit.terms[0])


def _dates(index: pd.Index) -> Array:
    """Positions on the time axis: ends of periods, dates, or rows."""
    if isinstance(index, pd.PeriodIndex):
        return index.to_timestamp(how="end").to_numpy()
    return index.to_numpy()


def _day(date: object) -> Any:
    """A date on the time axis."""
    return pd.Timestamp(str(date)).to_numpy()
