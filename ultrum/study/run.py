"""Running a study: fetch, make returns, line up, estimate, price. Reads from top to bottom."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import pandas as pd

from ultrum.core.labels import period_label
from ultrum.core.panel import Panel, align
from ultrum.core.pricing.betas import factor_betas
from ultrum.core.pricing.cost_of_equity import cost_of_equity
from ultrum.core.pricing.cost_result import CostOfEquity
from ultrum.core.pricing.premium import Premium
from ultrum.core.rates import per_period
from ultrum.core.regression.results import BetaTable
from ultrum.core.returns import excess
from ultrum.core.series import SeriesTable, TimeSeries
from ultrum.core.steps import apply_steps
from ultrum.desk import Desk
from ultrum.errors import StudyError
from ultrum.sources.delivery import Address
from ultrum.study.assets import names_of, read_prices, total_returns
from ultrum.study.checks import Caution, check_assets, check_cautions
from ultrum.study.schema import Series, Study
from ultrum.vault import Record

Progress = Callable[[str], None]


@dataclass(frozen=True, eq=False, repr=False)
class StudyResult:
    """Everything a study gave.

    Attributes
    ----------
    study : Study
    panel : Panel
    names : mapping of str to str
        Full names of the assets, where the study names a table of them.
    series : mapping of str to TimeSeries
        The study's own series, after their steps.
    models : mapping of str to BetaTable
    cost : CostOfEquity
        Of every asset, by the model asked for.
    checks : DataFrame
        By asset: untraded share of days, and the p value of a break at mid-sample.
    real_cost : Series or None
        Cost of equity less expected inflation, if the study names a series of it.
    deliveries : tuple of Record
        What was taken from the sources, and when.
    warnings : tuple of Caution
    run : str
        Hash of the study and the bytes that went in.
    """

    study: Study
    panel: Panel
    names: dict[str, str]
    series: dict[str, TimeSeries]
    models: dict[str, BetaTable]
    cost: CostOfEquity
    checks: pd.DataFrame
    inflation: float | None
    deliveries: tuple[Record, ...]
    warnings: tuple[Caution, ...]
    run: str

    @property
    def company(self) -> str:
        """The asset the study asks about."""
        return self.study.cost_of_equity.company

    @property
    def betas(self) -> BetaTable:
        """Betas of the model the cost of equity uses."""
        return self.models[self.study.cost_of_equity.model]

    @property
    def real_cost(self) -> pd.Series | None:
        """(1 + cost)/(1 + inflation) − 1."""
        if self.inflation is None:
            return None
        return (1.0 + self.cost.value) / (1.0 + self.inflation) - 1.0

    def to_frame(self) -> pd.DataFrame:
        """Cost of equity of every asset."""
        return self.cost.to_frame()

    def __repr__(self) -> str:
        value, low_high = self.cost.value[self.company], self.cost.interval().loc[self.company]
        return (
            f"{self.study.study.title} (run {self.run[:12]})\n{self.panel!r}\n"
            f"Cost of equity of {self.company}: {100 * value:.2f} % a year, 95 % interval "
            f"{100 * low_high['low']:.2f} to {100 * low_high['high']:.2f} %; "
            f"{len(self.warnings)} warnings"
        )


def run_study(
    study: Study | str | os.PathLike[str],
    *,
    vault: str | os.PathLike[str] | None = None,
    offline: bool = False,
    progress: Progress | None = None,
) -> StudyResult:
    """Run a study, from its file or as an object.

    Parameters
    ----------
    study : Study or path
        The study; a file is checked whole before anything is downloaded.
    vault : path, optional
        Folder of the vault.
    offline : bool
        Take every delivery from the vault.
    progress : callable, optional
        Told in a few words what is being done.

    Returns
    -------
    StudyResult

    Raises
    ------
    StudyError
        If the study is not valid.
    SourceError, VaultError, UltrumError
        If something it needs cannot be had or cannot be right.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> study = ul.Study.load(ul.practice.demo_study())
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     result = run_study(study.with_sources_at(service.places), vault=folder)
    >>> result.company
    'BRTW'
    """
    plan = study if isinstance(study, Study) else Study.load(study)
    tell = progress or (lambda _: None)
    sources = {
        name: source.model_dump(exclude_defaults=True) for name, source in plan.sources.items()
    }
    with Desk(vault, sources=sources, offline=offline, progress=tell) as desk:
        return _run(plan, desk, tell)


def _run(plan: Study, desk: Desk, tell: Progress) -> StudyResult:
    warnings: list[Caution] = []
    series = {name: _with_steps(plan, desk, said, (name,)) for name, said in plan.series.items()}
    prices = read_prices(plan, desk)
    tell("returns from prices, dividends and splits")
    made = total_returns(plan, desk, prices, warnings)
    tell("lining up the panel")
    panel = _panel(plan, desk, made, series)
    tell("estimating")
    models = {
        m.name: factor_betas(panel, m.factors, errors=m.errors, lags=m.lags) for m in plan.models
    }
    betas = models[plan.cost_of_equity.model]
    checks = check_assets(plan, prices, betas)
    tell("cost of equity")
    cost = _cost(plan, desk, panel, betas)
    warnings = [*check_cautions(checks, betas), *_cost_warnings(cost), *warnings]
    return StudyResult(
        study=plan,
        panel=panel,
        names=names_of(plan, desk),
        series=series,
        models=models,
        cost=cost,
        checks=checks,
        inflation=_last_inflation(plan, series),
        deliveries=tuple(sorted(desk.used, key=lambda r: (r.source, r.path))),
        warnings=tuple(warnings),
        run=_run_hash(plan, desk.used),
    )


def _with_steps(plan: Study, desk: Desk, said: Series, above: tuple[str, ...] = ()) -> TimeSeries:
    """A series after its steps, which may name others of the study or addresses."""

    def _other(name: str) -> TimeSeries:
        if name in above:
            raise StudyError(
                f"The series {' and '.join(above)} need one another; break the circle."
            )
        if name in plan.series:
            return _with_steps(plan, desk, plan.series[name], (*above, name))
        return desk.fetch(name)

    return apply_steps(desk.fetch(said.address), said.steps, _other)


def _panel(plan: Study, desk: Desk, made: SeriesTable, series: dict[str, TimeSeries]) -> Panel:
    """Panel of returns, the factors that some model uses, and the conditions."""
    units = plan.panel.factor_units
    table = desk.table(plan.panel.factors, units=units, measure="return").wide()
    risk_free = _rate_at(plan, desk, plan.panel.risk_free)
    wanted = list(dict.fromkeys(f for m in plan.models for f in m.factors))
    absent = [name for name in wanted if name not in table.names]
    if absent:
        raise StudyError(
            f"{plan.panel.factors} has no factor {', '.join(absent)}; it has: {', '.join(table.names)}."
        )
    plain = plan.panel.total_return_factors
    factors = [
        excess(table[name], risk_free)
        if name in plain
        else table[name].described(excess_of=risk_free.name)
        for name in wanted
    ]
    conditions = [series[name].described(name=name) for name in plan.panel.conditions]
    start, end = plan.study.span
    return align(
        assets=made,
        factors=SeriesTable.of(factors),
        risk_free=risk_free,
        conditions=SeriesTable.of(conditions) if conditions else None,
        frequency=plan.study.frequency,
        rows=plan.panel.rows,
        known_by=plan.study.known_by,
        start=None if start == "earliest" else start,
        end=None if end == "latest" else end,
    )


def _rate_at(plan: Study, desk: Desk, address: str) -> TimeSeries:
    """Risk-free return at an address: a column of returns, or a yield made into returns."""
    wanted = Address.parse(address)
    if plan.sources[wanted.source].kind == "sdmx":
        return per_period(desk.fetch(address), plan.study.frequency)
    units = plan.panel.factor_units
    found = desk.table(address, units=units, measure="return").series
    if wanted.field not in found:
        raise StudyError(f"{address}: no column '{wanted.field}'; it has: {', '.join(found)}.")
    return found[wanted.field]


def _cost(plan: Study, desk: Desk, panel: Panel, betas: BetaTable) -> CostOfEquity:
    said = plan.cost_of_equity
    if said.company not in betas.assets:
        raise StudyError(
            f"No asset '{said.company}' in the panel; there are: {', '.join(betas.assets)}."
        )
    factors = next(m.factors for m in plan.models if m.name == said.model)
    premia: dict[str, Any] = {}
    for name in factors:
        given = said.premium.get(name, "history")
        history = panel.factor_table[name]
        premia[name] = (
            history if given == "history" else Premium(float(given), over=panel.rate.name)
        )
    return cost_of_equity(betas, premia=premia, risk_free=_cost_rate(plan, desk, panel))


def _cost_rate(plan: Study, desk: Desk, panel: Panel) -> TimeSeries | float:
    said = plan.cost_of_equity.risk_free
    if said is None or said == plan.panel.risk_free:
        return panel.rate
    if isinstance(said, float | int):
        return float(said)
    return _rate_at(plan, desk, said)


def _cost_warnings(cost: CostOfEquity) -> list[Caution]:
    return [Caution(asset, f"{note}.") for asset, note in cost.notes.items()]


def _last_inflation(plan: Study, series: dict[str, TimeSeries]) -> float | None:
    """Latest value of the series the study names as inflation."""
    name = plan.cost_of_equity.inflation
    if not name:
        return None
    about, known = series[name].about, series[name].values.dropna()
    if about.measure != "rate" or not len(known):
        raise StudyError(
            f"[cost_of_equity] inflation = '{name}' is a {about.measure or 'series'}, not a growth "
            "rate. Give the series a growth step."
        )
    return float(known.iloc[-1])


def _run_hash(plan: Study, used: list[Record]) -> str:
    """What identifies a run: the study without its hosts, and the bytes that went in."""
    said = plan.model_dump(mode="json")
    said["sources"] = {name: source["kind"] for name, source in said["sources"].items()}
    inputs = sorted({(r.source, r.path, r.checksum) for r in used})
    return hashlib.sha256(repr((said, inputs)).encode()).hexdigest()


def sample_of(result: StudyResult) -> str:
    """First to last period of the panel, for people."""
    index = result.panel.assets.index
    return f"{period_label(index[0])} to {period_label(index[-1])}"
