"""Peer betas: unlevered to asset betas, averaged, relevered (Hamada 1972)."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import refuse_idle_options, validate_arguments
from ultrum.core.array_types import Floats
from ultrum.core.deprecated_names import RenamedColumns
from ultrum.core.presentation import table_html
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.regression.inference import t_quantile
from ultrum.core.regression.inputs import CONSTANT
from ultrum.errors import EstimationError, choices, name_list, one_of

Numbers = float | np.ndarray | pd.Series | pd.DataFrame


@validate_arguments
def unlever(beta: Numbers, debt_to_equity: Numbers, tax: Numbers = 0.0, *, debt_beta: Numbers = 0.0) -> Any:
    """Asset (unlevered) beta (Hamada 1972): (βₑ + β_d(1−τ)D/E) / (1 + (1−τ)D/E).

    Parameters
    ----------
    beta, debt_to_equity, tax, debt_beta : float, array or Series
        Debt over the market value of equity; tax and debt beta in decimals.

    Returns
    -------
    float or array-like
        Asset (unlevered) beta, with the type of the input.

    Examples
    --------
    >>> round(unlever(1.2, 0.5, 0.3), 4)
    0.8889
    """
    _check_leverage(debt_to_equity, tax)
    return _without_debt(beta, _after_tax(debt_to_equity, tax), debt_beta)


@validate_arguments
def relever(beta: Numbers, debt_to_equity: Numbers, tax: Numbers = 0.0, *, debt_beta: Numbers = 0.0) -> Any:
    """Relevered (equity) beta at a target D/E; the inverse of :func:`unlever`.

    Parameters
    ----------
    beta : float or array-like
        Beta of the assets.
    debt_to_equity : float or array-like
        Debt divided by equity, at market values.
    tax : float or array-like
        Tax rate, decimal.
    debt_beta : float or array-like
        Beta of the debt.

    Returns
    -------
    float or array-like
        Equity (levered) beta, with the type of the input.

    Examples
    --------
    >>> round(relever(unlever(1.2, 0.5, 0.3), 0.5, 0.3), 12)
    1.2
    """
    _check_leverage(debt_to_equity, tax)
    return _with_debt(beta, _after_tax(debt_to_equity, tax), debt_beta)


def _after_tax(debt_to_equity: object, tax: Any) -> object:
    return (1.0 - tax) * debt_to_equity


def _without_debt(beta: object, share: Any, debt_beta: object) -> object:
    return (beta + debt_beta * share) / (1.0 + share)


def _with_debt(beta: object, share: Any, debt_beta: object) -> object:
    return beta * (1.0 + share) - debt_beta * share


def _check_leverage(debt_to_equity: object, tax: object) -> None:
    if np.any(np.asarray(debt_to_equity, dtype=float) < 0):
        raise EstimationError("debt_to_equity must not be negative.")
    rates = np.asarray(tax, dtype=float)
    if np.any((rates < 0) | (rates >= 1)):
        raise EstimationError(f"The tax rate {np.max(rates):g} is not a decimal below 1. Divide percent by 100.")


# Peer betas: unlevered, averaged, relevered

ByPeer = float | Mapping[str, float] | pd.Series
Average = Literal["median", "mean", "value", "precision"]
_MEDIAN_PRICE: Final = np.sqrt(np.pi / 2.0)  # error of a median over that of a mean, for normal values


class _PeerTable(RenamedColumns):
    old_names: ClassVar = {"error": "standard_error", "unlevered_error": "unlevered_se", "place": "rank"}


class _IndustryTable(RenamedColumns):
    old_names: ClassVar = {"companies": "n", "error": "standard_error", "least": "min", "most": "max"}


@dataclass(frozen=True, eq=False, repr=False)
class PeerBeta:
    """Beta of a company from its peers.

    Attributes
    ----------
    beta, standard_error : float
        At the company's own D/E.
    asset_beta, asset_error : float
        Asset (unlevered) beta.
    estimation_error, between_error : float
        Standard error of the asset beta from the estimates' own errors alone, and from the differences between
        peers; ``asset_error`` is the larger one.
    spread : float
        Standard deviation of the peers' true asset betas; missing with one peer.
    df : float
        Degrees of freedom, the number of peers less one; missing with one peer.
    peers : DataFrame
        By peer: ``beta standard_error debt_to_equity tax unlevered unlevered_se weight rank``; rank 1 is the
        lowest unlevered beta.
    basis : str
    """

    beta: float
    standard_error: float
    asset_beta: float
    asset_error: float
    estimation_error: float
    between_error: float
    spread: float
    df: float
    peers: pd.DataFrame
    basis: str

    def interval(self, level: float = 0.95) -> tuple[float, float]:
        """Confidence interval of the beta: Student's t with the differences between peers, or wider.

        It is at least as wide as the normal interval with the errors of the estimates alone, which one peer has.

        Parameters
        ----------
        level : float
            Confidence level, between 0 and 1.

        Returns
        -------
        (float, float)

        Examples
        --------
        >>> import ultrum as ul
        >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
        >>> low, high = peer_beta(table, ["EBMK", "CSHW", "SLTM"], debt_to_equity=1.0, tax=0.25).interval()
        >>> bool(low < 0.3 < high)
        True
        """
        scale = self.standard_error / self.asset_error if self.asset_error else 1.0
        reach = scale * self.reach(level)
        return self.beta - reach, self.beta + reach

    def reach(self, level: float) -> float:
        """Half the width of the interval of the asset beta."""
        estimation = self.estimation_error * float(t_quantile(level, np.inf))
        if np.isnan(self.df):
            return estimation
        return max(estimation, self.between_error * float(t_quantile(level, self.df)))

    def to_frame(self) -> pd.DataFrame:
        """One row per peer."""
        return self.peers

    def __repr__(self) -> str:
        return (
            f"beta {self.beta:.3f} (standard error {self.standard_error:.3f}), asset (unlevered) "
            f"{self.asset_beta:.3f} ({self.asset_error:.3f}), spread between peers {self.spread:.3f}\n"
            f"{self.peers.to_string(float_format='{:.3f}'.format)}\n{textwrap.fill(self.basis, 100)}"
        )

    def _repr_html_(self) -> str:
        return table_html(self.peers, repr(self).splitlines()[0])


@validate_arguments
def peer_beta(
    betas: BetaTable,
    peers: Sequence[str],
    *,
    debt_to_equity: ByPeer,
    tax: ByPeer = 0.0,
    target_debt_to_equity: float = 0.0,
    target_tax: float = 0.0,
    how: Average = "median",
    values: ByPeer | None = None,
    debt_beta: float = 0.0,
    factor: str | None = None,
) -> PeerBeta:
    """Peer beta: betas of peers unlevered, averaged and relevered at the company's D/E.

    Parameters
    ----------
    betas : BetaTable
        Estimated betas.
    peers : sequence of str
        Names of the peers.
    debt_to_equity, tax : float, or mapping or Series by asset
        Debt over the market value of equity; tax rate in decimals.
    target_debt_to_equity, target_tax : float
        D/E and tax rate of the company; zero gives the asset (unlevered) beta.
    how : {"median", "mean", "value", "precision"}
        ``value`` weights by ``values``; ``precision`` by the inverse squared standard error.
    values : mapping or Series by asset, optional
        Market values, for ``how="value"``.
    debt_beta : float
        Beta of the debt.
    factor : str, optional
        Factor whose beta is used; by default the first.

    Returns
    -------
    PeerBeta
        The standard error allows for differences between peers: Σw²(b − b̄)²/(1 − w), as in Hartung and Knapp
        (2001) and Sidik and Jonkman (2002), plus the covariances of the estimates, which are correlated like
        their residuals; it is at least the estimation error alone. That of a median of three or more is √(π/2)
        times that of a mean. Leverage is taken as known.

    Raises
    ------
    EstimationError
        If a peer has no beta or no D/E.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = peer_beta(table, ["EBMK", "CSHW", "SLTM", "WKFN"], debt_to_equity=1.0, tax=0.25,
    ...                  target_debt_to_equity=0.9, target_tax=0.25)
    >>> bool(0.2 < made.asset_beta < made.beta)
    True
    """
    if how != "value":
        refuse_idle_options(f"how='{how}'", values=values)
    names = list(dict.fromkeys(map(str, peers)))
    term = factor or next(str(t) for t in betas.coefficients if t != CONSTANT)
    frame = _peer_frame(betas, names, term, debt_to_equity, tax, debt_beta)
    weights = _weights(frame, how, values)
    asset_beta = float(np.median(frame["unlevered"])) if how == "median" else float(weights @ frame["unlevered"])
    together = _together(betas, names, frame["unlevered_se"].to_numpy())
    bare = frame["unlevered"].to_numpy()
    price = _MEDIAN_PRICE if how == "median" and len(names) > 2 else 1.0
    estimation, between = (price * part for part in _errors_of_mean(bare, weights, together))
    error = max(estimation, between)
    spread = _spread_of_truth(bare, frame["unlevered_se"].to_numpy())
    share = (1.0 - target_tax) * target_debt_to_equity
    return PeerBeta(
        beta=float(relever(asset_beta, target_debt_to_equity, target_tax, debt_beta=debt_beta)),
        standard_error=error * (1.0 + share),
        asset_beta=asset_beta,
        asset_error=error,
        estimation_error=estimation,
        between_error=between,
        spread=spread,
        df=len(names) - 1.0 if len(names) > 1 else np.nan,
        peers=_PeerTable(
            frame.assign(
                weight=np.nan if how == "median" else weights,
                rank=frame["unlevered"].rank(method="min").astype(int),
            )
        ),
        basis=f"{how} of {len(names)} unlevered {term} betas (Hamada 1972), levered at D/E "
        f"{target_debt_to_equity:.2f}, tax {100 * target_tax:.0f} %; {errors_in_words(betas.errors)}; "
        + (
            f"true asset betas of peers differ by {spread:.2f} (standard deviation), which the error includes"
            if len(names) > 1
            else "one peer, so how peers differ is unknown"
        ),
    )


@validate_arguments
def industry_betas(
    betas: BetaTable,
    industries: Mapping[str, str] | pd.Series,
    *,
    debt_to_equity: ByPeer,
    tax: ByPeer = 0.0,
    how: Average = "median",
    values: ByPeer | None = None,
    debt_beta: float = 0.0,
    factor: str | None = None,
) -> pd.DataFrame:
    """Industry asset betas: :func:`ultrum.peer_beta` of all companies of each industry, unlevered.

    Parameters
    ----------
    betas : BetaTable
        Estimated betas.
    industries : mapping or Series of asset to industry
        Industry of each asset.
    debt_to_equity, tax : float, or mapping or Series by asset
        As for :func:`ultrum.peer_beta`.
    how : {"median", "mean", "precision", "value"}
        How the betas of an industry are averaged, as for :func:`ultrum.peer_beta`.
    values : mapping or Series by asset, optional
        Market values, for ``how="value"``.
    debt_beta : float
        Beta of the debt.
    factor : str, optional
        Factor whose beta is used; by default the only one.

    Returns
    -------
    DataFrame
        By industry: ``n beta standard_error spread min max``; ``spread`` is the standard deviation of the true
        asset betas of its companies.

    Examples
    --------
    >>> import ultrum as ul
    >>> table = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> made = industry_betas(table, {"EBMK": "power", "WKFN": "power", "PLFR": "ships"}, debt_to_equity=1.0)
    >>> made["n"].to_dict()
    {'power': 2, 'ships': 1}
    """
    rows, industry_of = {}, industry_by_asset(industries).dropna().to_dict()
    for industry in dict.fromkeys(industry_of.values()):
        names = [str(a) for a, i in industry_of.items() if i == industry and a in betas.coefficients.index]
        if not names:
            continue
        result = peer_beta(
            betas,
            names,
            debt_to_equity=debt_to_equity,
            tax=tax,
            how=how,
            values=values,
            debt_beta=debt_beta,
            factor=factor,
        )
        unlevered = result.peers["unlevered"]
        rows[industry] = {
            "n": len(names),
            "beta": result.asset_beta,
            "standard_error": result.asset_error,
            "spread": result.spread,
            "min": unlevered.min(),
            "max": unlevered.max(),
        }
    if not rows:
        raise EstimationError("None of the companies of these industries has a beta.")
    return _IndustryTable(pd.DataFrame.from_dict(rows, orient="index"))


def industry_by_asset(industries: Mapping[str, str] | pd.Series) -> pd.Series:
    """Industry of each asset, as a Series; an asset must not have two.

    Raises
    ------
    EstimationError
        If an asset is listed twice.
    """
    listed = industries if isinstance(industries, pd.Series) else pd.Series(dict(industries), dtype=object)
    twice = listed.index[listed.index.duplicated()].unique()
    if len(twice):
        raise EstimationError(f"{name_list(twice)}: more than one industry. Keep one row of each asset.")
    return listed


def _peer_frame(
    betas: BetaTable, names: list[str], term: str, debt_to_equity: ByPeer, tax: ByPeer, debt_beta: float
) -> pd.DataFrame:
    absent = [n for n in names if n not in betas.coefficients.index]
    if absent or not names:
        names_there = choices(betas.assets)
        raise EstimationError(f"No beta of {name_list(absent) or 'any peer'}; there are: {names_there}.")
    if term not in betas.coefficients:
        raise EstimationError(f"No factor '{term}'; {one_of(term, betas.coefficients)}")
    peer_betas, errors = betas.coefficients.loc[names, term], betas.standard_errors.loc[names, term]
    frame = pd.DataFrame({"beta": peer_betas, "standard_error": errors})
    frame["debt_to_equity"], frame["tax"] = _by_peer(debt_to_equity, names), _by_peer(tax, names)
    lacking = frame.index[frame.isna().any(axis=1)]
    if len(lacking):
        raise EstimationError(
            f"{name_list(lacking)}: the beta, D/E or tax rate is missing. Add it, or remove the peer."
        )
    frame["unlevered"] = unlever(frame["beta"], frame["debt_to_equity"], frame["tax"], debt_beta=debt_beta)
    frame["unlevered_se"] = frame["standard_error"] / (1.0 + (1.0 - frame["tax"]) * frame["debt_to_equity"])
    return frame


def _by_peer(given: ByPeer, names: list[str]) -> pd.Series:
    """One number per peer, missing where the mapping has none."""
    if isinstance(given, pd.Series | Mapping):
        return pd.Series(given).reindex(names).astype(np.float64)
    return pd.Series(float(given), index=names)


def _weights(frame: pd.DataFrame, how: Average, values: ByPeer | None) -> Floats:
    if how == "precision":
        heavy = 1.0 / frame["unlevered_se"].to_numpy() ** 2
    elif how == "value":
        if values is None:
            raise EstimationError("peer_beta: how='value' needs values=, the market value of each peer.")
        heavy = np.asarray(_by_peer(values, list(frame.index)), dtype=np.float64)
        if heavy.shape != (len(frame),) or not (np.isfinite(heavy) & (heavy > 0)).all():
            raise EstimationError("peer_beta: values= needs a positive market value for each peer.")
    else:
        heavy = np.ones(len(frame))
    return np.asarray(heavy / heavy.sum())


def _errors_of_mean(values: Floats, weights: Floats, together: Floats) -> tuple[float, float]:
    """Standard errors of a weighted mean: from the covariance of the estimates, and from how they differ."""
    variance = float(weights @ together @ weights)
    if len(values) == 1:
        return float(np.sqrt(variance)), 0.0
    apart = weights**2 * (values - weights @ values) ** 2 / (1.0 - weights)
    common = variance - float(weights**2 @ np.diag(together))
    return float(np.sqrt(variance)), float(np.sqrt(max(0.0, apart.sum() + common)))


def _spread_of_truth(values: Floats, errors: Floats) -> float:
    """Standard deviation of the true values: that of the estimates less their errors."""
    if len(values) < 2:
        return float("nan")
    return float(np.sqrt(max(0.0, values.var(ddof=1) - np.mean(errors**2))))


def _together(betas: BetaTable, names: list[str], errors: Floats) -> Floats:
    """Covariance of the peers' estimates: their standard errors, correlated as their residuals over common
    observations.
    """
    tied = betas.residuals[names].corr().fillna(0.0).to_numpy(copy=True)
    np.fill_diagonal(tied, 1.0)
    return np.asarray(tied * np.outer(errors, errors))
