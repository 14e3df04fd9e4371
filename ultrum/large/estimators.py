"""Betas and premia of a panel on disk."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Generic, TypeVar

import numpy as np
import pandas as pd

from ultrum.core.pricing.cross_sections import Blocks, Exposure, Work, sections_of
from ultrum.core.pricing.factor_betas import chosen_factors
from ultrum.core.pricing.factor_betas import factor_betas as betas_in_memory
from ultrum.core.pricing.premia_errors import shanken
from ultrum.core.pricing.two_pass import characteristic, moving_betas
from ultrum.core.pricing.two_pass_identification import with_errors
from ultrum.core.pricing.two_pass_result import Slopes, TwoPass, TwoPassPlan, two_pass_of
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.design_warnings import warn_of_copies
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.inputs import with_constant
from ultrum.core.regression.ols import Rule, estimate_columns, rule_of
from ultrum.core.series.time_series import SeriesTable
from ultrum.errors import EstimationError
from ultrum.large.asset_index import Block
from ultrum.large.block_scheduler import WIDE_BLOCK, through_blocks, wide_needs
from ultrum.large.calendar_index import Layout
from ultrum.large.long_panel import LongPanel

T = TypeVar("T")


@dataclass(frozen=True, eq=False, repr=False)
class LongBetas(BetaTable):
    """As :class:`ultrum.BetaTable`; the returns stay on disk, and an asset's are read when it is asked for."""

    edges: pd.DataFrame = field(default_factory=pd.DataFrame)
    panel: LongPanel | None = None
    lags_setting: int | str | None = None

    @property
    def residuals(self) -> pd.DataFrame:
        """Too many to hold.

        Raises
        ------
        EstimationError
            Always; the message names where those of one asset are.
        """
        raise EstimationError(
            f"Residuals of {len(self.assets):,} assets are not held; fit(asset).residuals has those of one."
        )

    def fit(self, asset: str) -> Fit:
        """Regression of one asset, as :func:`ultrum.regress` would give it alone."""
        if self.panel is None or asset not in self.coefficients.index:
            raise EstimationError(f"No asset '{asset}'; there are {len(self.assets):,}.")
        factors = [str(t) for t in self.design.columns[1:]]
        panel = self.panel.read([asset])
        return betas_in_memory(panel, factors, errors=self.errors, lags=self.lags_setting).fit(asset)

    def _edge(self, which: int) -> pd.Series:
        return self.edges["first" if which == 0 else "last"]


def factor_betas(
    panel: LongPanel, *, factors: Sequence[str] | None, errors: str, lags: int | str | None
) -> LongBetas:
    """Regress the assets of each block; put the tables together."""
    names = chosen_factors(panel, factors)
    design = with_constant(panel.factors[names])
    rule = rule_of(errors, lags, None, None, pd.DataFrame(index=design.index))
    job = _Betas(_layout(panel), design, rule)
    blocks = panel.excess.blocks(WIDE_BLOCK)
    parts = list(through_blocks(panel.excess, job, blocks, wide_needs(panel.excess)))
    warn_of_copies(design)
    series = {n: pd.concat([getattr(p, n) for p in parts]) for n in ("nobs", "sigma", "r2", "lags", "edges")}
    return LongBetas(
        coefficients=pd.concat([p.coefficients for p in parts]),
        covariance=np.concatenate([p.covariance for p in parts]),
        response=parts[0].response,
        design=design,
        dropped=pd.concat([p.dropped for p in parts]).fillna(0).astype(np.int64),
        errors=rule.errors,
        panel=panel,
        lags_setting=lags,
        **series,
    )


@dataclass(frozen=True)
class _Betas:
    """Does one block; can be pickled."""

    layout: Layout
    design: pd.DataFrame
    rule: Rule

    def __call__(self, block: Block) -> LongBetas:
        left = self.layout.table(block).to_frame()
        table = estimate_columns(left, self.design, self.rule.on(left.index), part=True)
        facts = {k: v for k, v in vars(table).items() if k != "response"}
        edges = pd.DataFrame({"first": table.first, "last": table.last})
        return LongBetas(**facts, response=left.iloc[:, :0], edges=edges)


def two_pass(
    panel: LongPanel,
    *,
    factors: Sequence[str] | None,
    characteristics: Mapping[str, pd.DataFrame] | None,
    beta_sample: str,
    window: int,
    constant: bool,
    lags: int | None,
    errors: str | None,
    weighting: str,
    **_draws: int,
) -> TwoPass:
    """Sum the moments of every block's cross-sections; errors as the panel allows."""
    if weighting != "ols" or errors == "misspecification":
        raise EstimationError(
            "errors='misspecification' and weighting='gls' need the panel in memory; read some assets: "
            "panel.read([...])."
        )
    plan = TwoPassPlan.of(panel, factors, characteristics, beta_sample, window, constant, lags)
    given = dict(characteristics or {})
    table = None
    if plan.whole_sample:
        table = factor_betas(panel, factors=plan.factors, errors="classical", lags=None)
    sections = sections_of(_OnDisk(panel, plan, table, given), constant)
    slopes = Slopes.of(sections, plan, panel.risk_free.index)
    covariances = slopes.plain(plan)
    kind = "newey_west"
    whole = len(panel.risk_free) * len(panel.asset_names)
    F = panel.factors[plan.factors].to_numpy(dtype=np.float64)
    if table is not None and not given and panel.excess.rows == whole and np.isfinite(F).all():
        kind = "shanken"
        covariances[kind] = shanken(covariances["fama_macbeth"], slopes.mean, F[slopes.kept], constant)
    made = two_pass_of(panel, plan, sections, slopes, covariances, kind, table)
    return made if errors is None else with_errors(made, errors, covariances)


@dataclass(frozen=True)
class _OnDisk(Blocks):
    """Returns and exposures of a panel on disk, read for each piece of work again."""

    panel: LongPanel
    plan: TwoPassPlan
    table: BetaTable | None
    characteristics: Mapping[str, pd.DataFrame]

    def each(self, work: Work[T]) -> Iterable[T]:
        """By the workers of the data set."""
        excess, names = self.panel.excess, self.plan.factors
        moving = self.panel.factor_table.select(names) if names and self.table is None else None
        job = _Section(_layout(self.panel), moving, self.plan.window, work)
        blocks = [self._given(block) for block in excess.blocks(WIDE_BLOCK)]
        return through_blocks(excess, job, blocks, 2 * wide_needs(excess))

    def _given(self, block: Block) -> _Given:
        """What a worker needs of a block, and no more."""
        betas = np.empty((len(block.names), 0))
        if self.table is not None:
            betas = self.table.coefficients.loc[block.names, self.plan.factors].to_numpy()
        index = self.panel.risk_free.index
        characteristics = [characteristic(index, block.names, n, f) for n, f in self.characteristics.items()]
        return _Given(block, [*(Exposure(b) for b in betas.T), *characteristics])


@dataclass(frozen=True)
class _Given:
    """A block and the exposures that are known of it."""

    block: Block
    exposures: list[Exposure]


@dataclass(frozen=True)
class _Section(Generic[T]):
    """Does one block; can be pickled."""

    layout: Layout
    moving: SeriesTable | None
    window: int
    work: Work[T]

    def __call__(self, given: _Given) -> T:
        excess = self.layout.table(given.block)
        betas = [] if self.moving is None else moving_betas(excess, self.moving, self.window)
        return self.work(excess.block, [*betas, *given.exposures])


def _layout(panel: LongPanel) -> Layout:
    return Layout.of(panel.risk_free.index, panel.frequency, panel.excess.facts)
