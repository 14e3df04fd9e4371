"""Tables of sorted portfolios: mean excess returns, alphas, exposures, joint alpha tests."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.panel.alignment import align
from ultrum.core.portfolios.factors_from_sorts import factor_from_portfolios
from ultrum.core.portfolios.sorted_portfolios import SortedPortfolios
from ultrum.core.presentation import WIDTH, TextInNotebooks, decimals, p_equals, table_text
from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest, joint_alpha_test
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.inputs import CONSTANT
from ultrum.core.regression.regress import regress
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.period_labels_and_relative_dates import span_of
from ultrum.errors import EstimationError, one_of


@dataclass(frozen=True, eq=False, repr=False)
class PortfolioTable(TextInNotebooks):
    """Mean excess returns, alphas and exposures of sorted portfolios and their spreads.

    Attributes
    ----------
    means : BetaTable
        Mean excess return of each portfolio and spread per period (the constant alone).
    models : mapping of str to BetaTable
        Regressions of each portfolio and spread on the factors of each model.
    joint : mapping of str to JointAlphaTest
        Joint test of zero alphas of all portfolios under each model.
    nobs : int
        Periods with a portfolio, at most.
    noun : str
        What a period is, such as month.
    basis : str

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks()
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> table = ul.portfolio_table(sorted_, world.market, world.risk_free, spread="value high - value low")
    >>> table.to_frame().columns.tolist()[:3]
    [('mean', 'value'), ('mean', 't'), ('market', 'alpha')]
    """

    means: BetaTable
    models: dict[str, BetaTable]
    joint: dict[str, JointAlphaTest]
    nobs: int
    noun: str
    basis: str

    @property
    def in_percent(self) -> str:
        """The basis where numbers are shown in percent."""
        return self.basis.replace("decimals per", "percent per")

    def to_frame(self) -> pd.DataFrame:
        """A row per portfolio and spread: mean and t, then alpha, t, exposures and R² of each model.

        Returns
        -------
        DataFrame
            Columns by model and statistic.
        """
        columns: dict[tuple[str, str], pd.Series] = {
            ("mean", "value"): self.means.coefficients[CONSTANT],
            ("mean", "t"): self.means.t_values[CONSTANT],
        }
        for name, fit in self.models.items():
            columns[name, "alpha"] = fit.coefficients[CONSTANT]
            columns[name, "t"] = fit.t_values[CONSTANT]
            for term in fit.coefficients.columns.drop(CONSTANT):
                columns[name, str(term)] = fit.coefficients[term]
            columns[name, "R²"] = fit.r2
        return pd.DataFrame(columns)

    def __repr__(self) -> str:
        text = [table_text(self.to_frame(), "{:.4f}")]
        for name, test in self.joint.items():
            words = (
                f"All alphas zero under {name}: statistic {decimals(test.statistic)}, {p_equals(test.p_value)}."
            )
            text.append(words)
        return "\n".join([*text, textwrap.fill(self.basis, WIDTH)])


@validate_arguments
def portfolio_table(
    portfolios: SortedPortfolios,
    factors: TimeSeries | SeriesTable,
    risk_free: TimeSeries,
    *,
    models: Mapping[str, Sequence[str]] | None = None,
    spread: str | Sequence[str] = (),
    errors: str = "hac",
    joint: Literal["exact", "robust", "bootstrap"] = "exact",
) -> PortfolioTable:
    """Table of sorted portfolios: mean excess return, and alpha and exposures under several models.

    Parameters
    ----------
    portfolios : SortedPortfolios
        From :func:`sort_portfolios`.
    factors : TimeSeries or SeriesTable
        Traded factors: excess or zero-cost returns.
    risk_free : TimeSeries
        Risk-free return, subtracted from the portfolios.
    models : mapping of str to sequence of str, optional
        Factors of each model by its name; by default one model of all factors.
    spread : str or sequence of str
        Formulas of spreads to add as rows, as for :func:`factor_from_portfolios`.
    errors : str
        Kind of standard errors, as for :func:`regress`.
    joint : {"exact", "robust", "bootstrap"}
        Joint test of the portfolios' alphas, as for :func:`joint_alpha_test`.

    Returns
    -------
    PortfolioTable
        Decimals per period.

    Raises
    ------
    EstimationError
        If a model names a factor that there is not.

    Examples
    --------
    >>> import ultrum as ul
    >>> world = ul.practice.stocks()
    >>> sorted_ = ul.sort_portfolios(world.returns, {"value": world.book_to_market}, groups=5)
    >>> table = ul.portfolio_table(sorted_, world.market, world.risk_free)
    >>> round(table.joint["market"].p_value, 3) < 0.05
    True
    """
    panel = align(assets=portfolios.returns, factors=factors, risk_free=risk_free)
    names = list(panel.factors.columns)
    wanted = {", ".join(names): names} if models is None else dict(models)
    if not wanted:
        raise EstimationError(
            "portfolio_table: models is empty. Name the factors of a model: {'CAPM': ['market']}."
        )
    for model, terms in wanted.items():
        if isinstance(terms, str) or not isinstance(terms, Sequence):
            raise EstimationError(
                f"portfolio_table: model '{model}' takes a list of factors, such as {names[:1]}."
            )
        unknown = [term for term in terms if term not in names]
        if unknown or not terms:
            raise EstimationError(
                f"portfolio_table: model '{model}' has "
                + (f"'{unknown[0]}'; {one_of(unknown[0], names)}" if unknown else "no factors.")
            )
    rows = panel.excess.to_pandas()
    spreads = [spread] if isinstance(spread, str) else list(spread)
    for formula in spreads:
        rows[formula] = factor_from_portfolios(portfolios, formula).to_pandas().reindex(rows.index)
    loadings = panel.factors
    constant = pd.DataFrame({CONSTANT: np.ones(len(rows))}, rows.index)
    means = regress(rows, constant, errors=errors, constant=False)
    fits = {name: regress(rows, loadings[list(terms)], errors=errors) for name, terms in wanted.items()}
    tests = {name: joint_alpha_test(panel, terms, how=joint) for name, terms in wanted.items()}
    one = next(iter(tests.values()))
    nobs = int(means.nobs.max())
    basis = (
        f"at most {nobs} periods, {span_of(rows.index)}; excess of {risk_free.name}, spreads at zero cost; "
        f"{means.errors.upper() if means.errors.startswith('h') else means.errors} standard errors; decimals per "
        f"period. Joint test: {one.basis.partition(';')[0]}. {portfolios.basis}"
    )
    return PortfolioTable(means, fits, tests, nobs, portfolios.returns.frequency.noun, basis)
