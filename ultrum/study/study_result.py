"""The result of a study."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING

import pandas as pd

from ultrum.core.displayed_numbers import percent, quantity
from ultrum.core.panel.aligned_panel import Panel
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.fit import CONSTANT
from ultrum.core.series.text_tables import table_html
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.sources.table.reading_result import Decision
from ultrum.study.result_checks import StudyWarning
from ultrum.study.schema import Study
from ultrum.study.stages import Stage, StageStore
from ultrum.vault.journal import Record

if TYPE_CHECKING:
    from ultrum.core.pricing.alpha_and_multiple_tests import JointAlphaTest
    from ultrum.core.pricing.cost_of_equity_result import CostOfEquity
    from ultrum.core.pricing.kalman_beta import FilteredBetas
    from ultrum.core.pricing.peers_and_leverage import PeerBeta
    from ultrum.core.pricing.sensitivity import BetaSensitivity
    from ultrum.core.pricing.two_pass_result import TwoPass
    from ultrum.core.regression.diagnostics import Diagnosis
    from ultrum.core.regression.rolling_regression import RollingFit
    from ultrum.core.regression.structural_breaks import BreakTest


@dataclass(frozen=True, eq=False, repr=False)
class StudyResult:
    """All results of a study.

    Attributes
    ----------
    study : Study
    panel : Panel
    names : mapping of str to str
        Full names of the assets, if the study has a table of them.
    series : mapping of str to TimeSeries
        The study's own series, after their steps.
    models : mapping of str to BetaTable
    cost : CostOfEquity or None
        Cost of every asset by the chosen model; None without [cost_of_equity].
    checks : DataFrame
        By asset: share of days without trading, and the p value of a break.
    inflation : float or None
        Annual, the last value up to the panel's end; ``inflation_period`` is its period.
    downloads : tuple of Record
        Downloads used, with their times.
    warnings : tuple of StudyWarning
        Warnings for the reader: subject and text.
    run : str
        Hash of the study and of the input bytes.
    returns : SeriesTable
        Total returns of every asset and portfolio, before alignment.
    stages : mapping of str to Stage
        Stages computed or read from storage, with their inputs.
    joint_alpha : mapping of str to JointAlphaTest
        By model and kind of test.
    diagnosis : Diagnosis or None
    rolling : RollingFit or None
    two_pass : TwoPass or None
    peers : PeerBeta or None
    sensitivity : BetaSensitivity or None
    decisions : tuple of Decision
        Decisions about the columns of the files of prices and factors.
    store : StageStore or None
        Storage next to the vault, so that figures are drawn again only when they change.
    abroad : CostOfEquity or None
        In another currency.
    specifications : tuple of str
        Checksums of the distinct specifications estimated on these returns with this vault, including this one;
        empty without storage.
    """

    study: Study
    panel: Panel
    names: dict[str, str]
    series: dict[str, TimeSeries]
    models: dict[str, BetaTable]
    cost: CostOfEquity | None
    checks: pd.DataFrame
    inflation: float | None
    downloads: tuple[Record, ...]
    warnings: tuple[StudyWarning, ...]
    run: str
    returns: SeriesTable
    inflation_period: str = ""
    stages: Mapping[str, Stage] = field(default_factory=dict)
    joint_alpha: Mapping[str, JointAlphaTest] = field(default_factory=dict)
    diagnosis: Diagnosis | None = None
    rolling: RollingFit | None = None
    two_pass: TwoPass | None = None
    peers: PeerBeta | None = None
    sensitivity: BetaSensitivity | None = None
    abroad: CostOfEquity | None = None
    decisions: tuple[Decision, ...] = ()
    store: StageStore | None = None
    specifications: tuple[str, ...] = ()

    @property
    def company(self) -> str:
        """The asset of the study."""
        return self.study.asset or self.models[self.study.model.name].assets[0]

    @property
    def betas(self) -> BetaTable:
        """Betas of the model of the cost of equity, or of the first model."""
        return self.models[self.study.model.name]

    @property
    def real_cost(self) -> pd.Series | None:
        """(1 + cost)/(1 + inflation) − 1."""
        if self.inflation is None or self.cost is None:
            return None
        return (1.0 + self.cost.value) / (1.0 + self.inflation) - 1.0

    @cached_property
    def company_panel(self) -> Panel:
        """The panel of the company alone."""
        return replace(self.panel, assets=self.panel.assets[[self.company]])

    @cached_property
    def state_space_beta(self) -> FilteredBetas:
        """Random-walk beta of the company on the first factor."""
        from ultrum.core.pricing.kalman_beta import kalman_beta

        factor = next(str(t) for t in self.betas.coefficients if t != CONSTANT)
        return kalman_beta(self.company_panel, factor)

    @cached_property
    def company_break(self) -> BreakTest:
        """Test for a break of the company's regression at an unknown date."""
        from ultrum.core.regression.structural_breaks import break_test

        return break_test(self.betas.fit(self.company), how="sup-f")

    def to_frame(self) -> pd.DataFrame:
        """Cost of equity of every asset; betas if the study has no cost of equity.

        Examples
        --------
        >>> import tempfile, ultrum as ul
        >>> study = ul.Study.load(ul.practice.demo_study())
        >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
        ...     result = ul.run_study(study.with_sources_at(service.places), vault=folder)
        >>> result.to_frame()[["cost_of_equity", "low", "high"]].head(2).round(4)
              cost_of_equity     low    high
        BRTW          0.0622  0.0271  0.1027
        EBMK          0.0570  0.0275  0.0905
        """
        return self.betas.to_frame() if self.cost is None else self.cost.to_frame()

    def _repr_html_(self) -> str:
        return table_html(self.to_frame().loc[[self.company]], repr(self))

    def __repr__(self) -> str:
        head = f"{self.study.study.title} (run {self.run[:12]})\n{self.panel!r}\n"
        if self.cost is None:
            return f"{head}{self.betas.fit(self.company)!r}\n{quantity(len(self.warnings), 'warning')}"
        value = float(self.cost.value[self.company])
        low, high = map(float, self.cost.interval().loc[self.company, ["low", "high"]])
        return (
            f"{head}Cost of equity of {self.company}: {percent(value)} % per year, 95 % interval "
            f"{percent(low)} to {percent(high)} %; "
            f"{quantity(len(self.warnings), 'warning')}"
        )
