"""Cost of equity by hierarchical shrinkage: all loadings of a company towards its industry, size and leverage."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.array_types import Bools, Floats, Ints
from ultrum.core.presentation import WIDTH, MainTable, percent, quantity, table_text
from ultrum.core.pricing.cost_of_equity import (
    AddOns,
    Exposures,
    Premia,
    annual_rate,
    check_add_ons,
    check_same_rate,
    parts_without_error,
    premia_of,
)
from ultrum.core.pricing.peers_and_leverage import industry_by_asset
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_in_words
from ultrum.core.series.input_checks import check_numeric
from ultrum.core.series.time_series import TimeSeries
from ultrum.errors import EstimationError, count_parts, name_list, one_of

_FEWEST: Final = 5  # companies
_BURNED: Final = 400  # draws before the first that is kept
_SHAPE: Final = 2.0  # of the prior of covariances: correlations are uniform (Huang and Wand 2013)
_ROUNDING: Final = 1e-10
_SHORT: Final = {"standard_error": "s.e.", "industry_weight": "of industry", "all": "of all"}


@dataclass(frozen=True, eq=False, repr=False)
class HierarchicalCosts(MainTable):
    """Costs of equity from loadings shrunk towards industry and characteristics.

    Attributes
    ----------
    companies : DataFrame
        By company: ``industry``; ``unshrunk`` cost; ``cost``, ``standard_error``, ``low`` and ``high``; the
        weights of ``own`` estimates, of the ``industry`` (column ``industry_weight``) and of ``all`` companies,
        which sum to one.
    industries : DataFrame
        By industry: number of companies ``n``, and ``cost low high`` of a company of it that is not in the
        sample, of average characteristics; the last row, ``any``, is of an industry that is not in the sample.
    unlisted : DataFrame
        ``cost standard_error low high`` of the companies in ``unlisted``.
    loadings : DataFrame
        Posterior mean and standard deviation of each loading of each company.
    between : DataFrame
        By factor: standard deviations of true loadings ``within`` and ``between`` industries, and the effect of
        each characteristic with its error.
    premia : Series by factor
    risk_free : float
    add_ons : mapping of str to float
        Annual decimals.
    level : float
    basis : str
    """

    _main = "companies"
    companies: pd.DataFrame
    industries: pd.DataFrame
    unlisted: pd.DataFrame
    loadings: pd.DataFrame
    between: pd.DataFrame
    premia: pd.Series
    risk_free: float
    add_ons: Mapping[str, float]
    level: float
    basis: str

    @property
    def value(self) -> pd.Series:
        """Annual cost of equity by company."""
        return self.companies["cost"]

    @property
    def standard_error(self) -> pd.Series:
        """Its posterior standard deviation."""
        return self.companies["standard_error"]

    def __repr__(self) -> str:
        tables = [self.companies, self.industries, *([self.unlisted] if len(self.unlisted) else []), self.between]
        texts = [table_text(t.rename(columns=_SHORT), "{:.4f}") for t in tables]
        return "\n\n".join([*texts, textwrap.fill(self.basis, WIDTH)])


@validate_arguments
def hierarchical_cost_of_equity(
    betas: BetaTable,
    industries: Mapping[str, str] | pd.Series,
    *,
    premia: Premia,
    risk_free: TimeSeries | float,
    risk_free_error: float = 0.0,
    on: object = None,
    add_ons: AddOns | None = None,
    characteristics: pd.DataFrame | None = None,
    unlisted: pd.DataFrame | None = None,
    level: float = 0.95,
    draws: int = 999,
    seed: int = 0,
) -> HierarchicalCosts:
    r"""Cost of equity with all loadings shrunk towards those of similar companies.

    Estimated loadings vary around the true ones, :math:`b_i \sim N(\beta_i, V_i)`; true loadings around those
    that industry and characteristics imply, :math:`\beta_i = \mu + u_{g(i)} + C z_i + e_i`, with covariances
    :math:`\Omega` of :math:`u` and :math:`T` of :math:`e` that are estimated too. A company with few or noisy
    returns takes more from its peers, and one that is not listed all.

    Parameters
    ----------
    betas : BetaTable
        Unadjusted regressions of companies on the factors.
    industries : mapping or Series of asset to industry
        Assets without one are left out.
    premia : mapping, or TwoPass
        As for :func:`ultrum.cost_of_equity`.
    risk_free : TimeSeries or float
        As for :func:`ultrum.cost_of_equity`.
    risk_free_error : float
        Standard error of the risk-free rate.
    on : label, optional
        Date of the rate; by default the end of the betas' sample.
    add_ons : mapping of str to (float, str), optional
        Additional premia of every company, each with its reason.
    characteristics : DataFrame by asset, optional
        Such as log market value and leverage; they are standardised over the companies. Assets with a missing
        value are left out.
    unlisted : DataFrame, optional
        Companies without returns: a column ``industry`` and the columns of ``characteristics``. An industry
        that is not in the sample is allowed.
    level : float
        Of the intervals.
    draws, seed : int
        Draws of the Gibbs sampler, after 400 that are discarded.

    Returns
    -------
    HierarchicalCosts
        Posterior means, standard deviations and intervals, with the weight of each source of information.

    Raises
    ------
    EstimationError
        If fewer than five companies remain, or too few for the number of characteristics.

    Notes
    -----
    Flat priors on μ and C; half-t priors on the standard deviations with uniform correlations (Huang and Wand
    2013). Estimates of companies are taken as independent of each other. Weights are those along the premia:
    own T/(T + V), then of the industry's mean Ω/(Ω + its variance). See docs/formulas.md.

    References
    ----------
    Lindley, D. V., and A. F. M. Smith (1972), Bayes estimates for the linear model. Journal of the Royal
    Statistical Society B 34, 1–41. Karolyi, G. A. (1992), Predicting risk: some new generalizations. Management
    Science 38, 57–74. Huang, A., and M. P. Wand (2013), Simple marginally noninformative prior distributions
    for covariance matrices. Bayesian Analysis 8, 439–452.

    Examples
    --------
    >>> import ultrum as ul
    >>> betas = ul.factor_betas(ul.practice.panel(), ["market"])
    >>> groups = {a: "sea" if a < "M" else "land" for a in betas.assets}
    >>> made = ul.hierarchical_cost_of_equity(betas, groups, premia={"market": 0.05}, risk_free=0.03)
    >>> bool(made.companies["cost"].std() < made.companies["unshrunk"].std())
    True
    """
    if betas.unadjusted is not None:
        raise EstimationError(
            "hierarchical_cost_of_equity: the betas are shrunk already. Pass those of factor_betas."
        )
    exposures = Exposures.of(betas)
    prices, spread = premia_of(exposures.factors, premia)
    if not np.isfinite(spread).all():
        raise EstimationError(
            "hierarchical_cost_of_equity: a premium has no standard error. Use a longer history."
        )
    rate, rate_name = annual_rate(risk_free, exposures.end if on is None else on)
    check_same_rate(prices, rate_name)
    extra = {name: value for name, (value, _) in check_add_ons(add_ons or {}, exposures.factors).items()}
    flat = rate + sum(extra.values())
    lam = np.array([prices[f].value for f in exposures.factors])
    sample = _Sample.of(exposures, industry_by_asset(industries), characteristics)
    new = _unlisted(unlisted, sample)
    posterior = _gibbs(sample, draws, seed)
    rng = np.random.default_rng([seed, 1])
    count = len(posterior.own)
    drawn_premia = lam + rng.standard_normal((count, len(lam))) @ _root(spread).T
    base = flat + risk_free_error * rng.standard_normal(count)

    def summary(loadings: Floats, index: pd.Index) -> pd.DataFrame:
        """Costs of drawn loadings."""
        return _summary(base[:, None] + np.einsum("dnk,dk->dn", loadings, drawn_premia), index, level)

    companies = summary(posterior.own, sample.assets)
    companies["cost"] = flat + posterior.own.mean(axis=0) @ lam  # without the noise of drawn premia
    companies.insert(0, "unshrunk", flat + sample.b @ lam)
    companies.insert(0, "industry", [sample.groups[c] for c in sample.codes])
    labels = pd.Index([*sample.groups, "any"], name="industry")
    average = np.zeros((len(labels), sample.z.shape[1]))
    by_industry = summary(_new_draws(posterior, np.arange(len(labels)), average, rng), labels)
    by_industry.insert(0, "n", [*np.bincount(sample.codes, minlength=len(sample.groups)), 0])
    unlisted_costs = pd.DataFrame(columns=["cost", "standard_error", "low", "high"], dtype=float)
    if new is not None:
        unlisted_costs = summary(_new_draws(posterior, new[1], new[2], rng), new[0])
    known = parts_without_error(prices, risk_free_error)
    basis = _basis(sample, exposures, pd.Series(lam, exposures.factors), rate, extra, known)
    return HierarchicalCosts(
        companies.join(_weights(sample, posterior, lam)),
        by_industry,
        unlisted_costs,
        _loadings(posterior, sample, exposures.factors),
        _between(posterior, sample, exposures.factors),
        pd.Series(lam, exposures.factors, name="premium"),
        rate,
        extra,
        level,
        f"{basis}; {100 * level:g} % posterior intervals, {quantity(count, 'draw')}, seed {seed}",
    )


def _basis(
    sample: _Sample,
    exposures: Exposures,
    prices: pd.Series,
    rate: float,
    extra: Mapping[str, float],
    known: Sequence[str],
) -> str:
    """What the costs rest on."""
    traits = f"characteristics {name_list(sample.traits)}" if sample.traits else "no characteristics"
    parts = [
        f"{quantity(len(sample.assets), 'company')} in {quantity(len(sample.groups), 'industry')}"
        f"{sample.left_out}",
        f"loadings on {', '.join(exposures.factors)}, {errors_in_words(exposures.errors)}",
        traits,
        f"risk-free rate {percent(rate)} %",
        f"premia {', '.join(f'{name} {percent(float(value))} %' for name, value in prices.items())}",
        *(f"{name} {percent(value)} %" for name, value in extra.items()),
        *([f"taken as known: {name_list(list(known))}"] if known else []),
    ]
    return "; ".join(parts)


@dataclass(frozen=True)
class _Sample:
    """Estimates b (N, K) with covariances V (N, K, K), industry codes, standardised characteristics z (N, q)."""

    assets: pd.Index
    b: Floats
    V: Floats
    codes: Ints
    groups: list[str]
    z: Floats
    traits: list[str]
    middle: Floats
    scale: Floats
    left_out: str

    @classmethod
    def of(cls, exposures: Exposures, industry: pd.Series, traits: pd.DataFrame | None) -> _Sample:
        """Companies with estimates, an industry and every characteristic."""
        group_of = industry.reindex(exposures.assets)
        used: Bools = np.asarray(np.isfinite(exposures.beta).all(axis=1) & group_of.notna().to_numpy())
        used &= np.isfinite(exposures.covariance).all(axis=(1, 2))
        names: list[str] = []
        values = np.zeros((len(used), 0))
        if traits is not None:
            names = [str(c) for c in traits]
            check_numeric(traits, names, "characteristics")
            values = traits.reindex(exposures.assets).to_numpy(dtype=float)
            used &= np.isfinite(values).all(axis=1)
        needed = max(_FEWEST, len(names) + 3)
        if used.sum() < needed:
            raise EstimationError(
                f"hierarchical_cost_of_equity: {quantity(int(used.sum()), 'company')} with loadings, an industry "
                f"and every characteristic; at least {needed} are needed."
            )
        if "any" in set(group_of[used].astype(str)):
            raise EstimationError("An industry is named 'any', as the row of one not in the sample. Rename it.")
        kept = values[used]
        middle, scale = kept.mean(axis=0), kept.std(axis=0)
        still = scale <= 1e-12 * np.abs(kept).max(axis=0, initial=0.0)
        if still.any():
            constant = [n for n, s in zip(names, still, strict=True) if s]
            raise EstimationError(f"characteristics: {name_list(constant)} does not vary. Remove it.")
        scaled = np.column_stack([np.ones(len(kept)), (kept - middle) / scale])
        if np.linalg.matrix_rank(scaled, tol=1e-8 * len(kept)) < scaled.shape[1]:
            raise EstimationError(f"characteristics: {name_list(names)} are collinear. Remove one of them.")
        codes, groups = pd.factorize(group_of[used].astype(str))
        lost = [str(a) for a, u in zip(exposures.assets, used, strict=True) if not u]
        return cls(
            exposures.assets[used],
            exposures.beta[used],
            exposures.covariance[used],
            codes.astype(np.int64),
            list(map(str, groups)),
            (kept - middle) / scale,
            names,
            middle,
            scale,
            f", without {name_list(lost)} (no loading, industry or characteristic)" if lost else "",
        )


def _unlisted(frame: pd.DataFrame | None, sample: _Sample) -> tuple[pd.Index, Ints, Floats] | None:
    """Companies without returns: names, industry codes (the last one for an unseen industry), characteristics."""
    if frame is None:
        return None
    for column in ("industry", *sample.traits):
        if column not in frame:
            choices = one_of(column, list(map(str, frame)))
            raise EstimationError(f"unlisted: the column '{column}' is missing; {choices}")
    values = frame[sample.traits].to_numpy(dtype=float)
    if not np.isfinite(values).all():
        raise EstimationError("unlisted: a characteristic is missing. Give every company all of them.")
    place = {name: k for k, name in enumerate(sample.groups)}
    codes = np.array([place.get(str(g), len(sample.groups)) for g in frame["industry"]], dtype=np.int64)
    return pd.Index(frame.index, name="company"), codes, (values - sample.middle) / sample.scale


# The Gibbs sampler


@dataclass(frozen=True)
class _Draws:
    """Draws D of loadings (D, N, K), industry means with an unseen one (D, G + 1, K), effects (D, q, K), T and
    Ω.
    """

    own: Floats
    centre: Floats
    groups: Floats
    effects: Floats
    T: Floats
    omega: Floats


def _gibbs(sample: _Sample, draws: int, seed: int) -> _Draws:
    """Draws of all unknowns given the estimates."""
    rng = np.random.default_rng(seed)
    count, width = sample.b.shape
    groups, traits = len(sample.groups), sample.z.shape[1]
    common = np.column_stack([np.ones(count), sample.z])
    members = (sample.codes[:, None] == np.arange(groups)).astype(float)
    design = np.hstack([common, members])  # (N, p)
    typical = np.sqrt(np.mean(np.diagonal(sample.V, axis1=1, axis2=2), axis=0))
    size = np.maximum(typical, sample.b.std(axis=0)) + _ROUNDING
    precision = np.linalg.inv(sample.V + _ROUNDING * np.eye(width) * size**2)
    T, omega = np.diag(size**2 / 2.0), np.diag(size**2 / 2.0)
    a, c = np.ones(width) / size**2, np.ones(width) / size**2
    kept: list[tuple[Floats, ...]] = []
    total = _BURNED + draws
    for draw in count_parts(range(total), "hierarchical_cost_of_equity, draws", total):
        coefficients = _draw_coefficients(rng, sample, design, T, omega, 1 + traits)
        middle = design @ coefficients
        own = _draw_loadings(rng, precision, sample.b, middle, T)
        T, a = _draw_covariance(rng, own - middle, a, size)
        effects, apart = coefficients[: 1 + traits], coefficients[1 + traits :]
        omega, c = _draw_covariance(rng, apart, c, size)
        if draw >= _BURNED:
            unseen = rng.standard_normal(width) @ np.linalg.cholesky(omega).T
            means = effects[0] + np.vstack([apart, unseen])
            kept.append((own, effects[0], means, effects[1:], T, omega))
    own, centre, means, effects, within, between = (np.array(one) for one in zip(*kept, strict=True))
    return _Draws(own, centre, means, effects, within, between)


def _draw_coefficients(
    rng: np.random.Generator, sample: _Sample, design: Floats, T: Floats, omega: Floats, fixed: int
) -> Floats:
    """Constant, effects of characteristics and industries, (p, K), with the true loadings integrated out."""
    width, terms = sample.b.shape[1], design.shape[1]
    weight = np.linalg.inv(sample.V + T)
    weighted = (design[:, :, None, None] * weight[:, None]).reshape(len(design), -1)
    gram = (design.T @ weighted).reshape(terms, terms, width, width).transpose(0, 2, 1, 3).copy()
    right = design.T @ (weight @ sample.b[:, :, None])[:, :, 0]
    prior = np.linalg.inv(omega)
    for place in range(fixed, terms):
        gram[place, :, place, :] += prior
    matrix = gram.reshape(terms * width, terms * width)
    root = np.linalg.cholesky(matrix)
    mean = np.linalg.solve(root.T, np.linalg.solve(root, right.ravel()))
    return (mean + np.linalg.solve(root.T, rng.standard_normal(terms * width))).reshape(terms, width)


def _draw_loadings(rng: np.random.Generator, precision: Floats, b: Floats, middle: Floats, T: Floats) -> Floats:
    """True loadings given the estimates and what peers imply, (N, K)."""
    inverse = np.linalg.inv(T)
    root = np.linalg.cholesky(precision + inverse)
    right = np.einsum("nkl,nl->nk", precision, b) + middle @ inverse
    half = np.linalg.solve(root, right[:, :, None])
    upper = root.swapaxes(1, 2)
    return np.asarray(np.linalg.solve(upper, half + rng.standard_normal((*b.shape, 1)))[:, :, 0])


def _draw_covariance(
    rng: np.random.Generator, deviations: Floats, mixing: Floats, size: Floats
) -> tuple[Floats, Floats]:
    """A covariance given deviations, and its mixing variables: half-t standard deviations (Huang and Wand
    2013).
    """
    count, width = deviations.shape
    scale = deviations.T @ deviations + 2.0 * _SHAPE * np.diag(mixing)
    df = _SHAPE + width - 1.0 + count
    lower = np.diag(np.sqrt(rng.chisquare(df - np.arange(width))))
    lower[np.tril_indices(width, -1)] = rng.standard_normal(width * (width - 1) // 2)
    root = np.linalg.cholesky(np.linalg.inv(scale)) @ lower
    precision = root @ root.T
    mixing_rate = _SHAPE * np.diag(precision) + 1.0 / size**2
    inverse_mixing = rng.gamma((_SHAPE + width) / 2.0, 1.0 / mixing_rate)
    return np.linalg.inv(precision), inverse_mixing


def _new_draws(posterior: _Draws, codes: Ints, z: Floats, rng: np.random.Generator) -> Floats:
    """Loadings of companies that are not in the sample, (D, n, K)."""
    middle = posterior.groups[:, codes] + np.einsum("nq,dqk->dnk", z, posterior.effects)
    root = np.linalg.cholesky(posterior.T)
    return np.asarray(middle + np.einsum("dkl,dnl->dnk", root, rng.standard_normal(middle.shape)))


# Summaries


def _root(spread: Floats) -> Floats:
    """A root of a covariance, which may be zero."""
    values, vectors = np.linalg.eigh(spread)
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0)))


def _summary(costs: Floats, index: pd.Index, level: float) -> pd.DataFrame:
    """Mean, standard deviation and quantiles of draws (D, n)."""
    low, high = np.quantile(costs, [0.5 - level / 2.0, 0.5 + level / 2.0], axis=0)
    columns = {"cost": costs.mean(axis=0), "standard_error": costs.std(axis=0, ddof=1), "low": low, "high": high}
    return pd.DataFrame(columns, index)


def _weights(sample: _Sample, posterior: _Draws, lam: Floats) -> pd.DataFrame:
    """Weights of own estimates, industry and all companies along the premia, averaged over draws."""
    direction = lam if lam.any() else np.ones_like(lam)
    within = np.einsum("k,dkl,l->d", direction, posterior.T, direction)
    between = np.einsum("k,dkl,l->d", direction, posterior.omega, direction)
    noise = np.einsum("k,nkl,l->n", direction, sample.V, direction)
    own = within[:, None] / (within[:, None] + noise)
    members = (sample.codes[:, None] == np.arange(len(sample.groups))).astype(float)
    of_mean = 1.0 / ((1.0 / (within[:, None] + noise)) @ members)  # (D, G)
    share = (between[:, None] / (between[:, None] + of_mean))[:, sample.codes]
    columns = {
        "own": own.mean(axis=0),
        "industry_weight": ((1.0 - own) * share).mean(axis=0),
        "all": ((1.0 - own) * (1.0 - share)).mean(axis=0),
    }
    return pd.DataFrame(columns, sample.assets)


def _loadings(posterior: _Draws, sample: _Sample, factors: list[str]) -> pd.DataFrame:
    """Posterior mean and standard deviation of each loading."""
    mean, sd = posterior.own.mean(axis=0), posterior.own.std(axis=0, ddof=1)
    labels = [label for factor in factors for label in (factor, f"{factor}_error")]
    return pd.DataFrame(np.stack([mean, sd], axis=2).reshape(len(mean), -1), sample.assets, labels)


def _between(posterior: _Draws, sample: _Sample, factors: list[str]) -> pd.DataFrame:
    """Differences of true loadings, and effects of characteristics (per standard deviation), by factor."""
    columns = {
        "within": np.sqrt(np.diagonal(posterior.T, axis1=1, axis2=2)).mean(axis=0),
        "between": np.sqrt(np.diagonal(posterior.omega, axis1=1, axis2=2)).mean(axis=0),
    }
    for q, trait in enumerate(sample.traits):
        columns[trait] = posterior.effects[:, q].mean(axis=0)
        columns[f"{trait}_error"] = posterior.effects[:, q].std(axis=0, ddof=1)
    return pd.DataFrame(columns, pd.Index(factors, name="factor"))
