"""The panel: aligned assets, factors and conditioning variables, with the log of missing data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import pandas as pd

from ultrum.core.displayed_numbers import quantity
from ultrum.core.panel.missing_log import MissingData
from ultrum.core.series.metadata import Metadata, step_of
from ultrum.core.series.text_tables import table_html
from ultrum.core.series.time_series import SeriesTable, TimeSeries
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels import rows_between, span_of
from ultrum.errors import AlignmentError

_ROWS: Final = ("complete", "any")
NO_RATE: Final = "none"  # name of the risk-free rate of a panel without one


@dataclass(frozen=True, eq=False, repr=False)
class Panel:
    """Aligned panel of returns, factors and conditioning variables.

    Attributes
    ----------
    assets : DataFrame, shape (T, N)
        Total returns, in decimals; single assets can be missing.
    factors, conditions : DataFrame, shape (T, K) and (T, M)
    risk_free : Series, shape (T,)
        Risk-free return of each period; zeros named ``none`` in a panel without a risk-free rate.
    coverage : DataFrame
        By series: first, last, rows, gaps, filled (periods in which a carried-forward value of a conditioning
        variable is used), stale, and costs: the number of rows that this series alone keeps out of a complete
        panel.
    missing_log : DataFrame
        Columns ``period series cause``: every missing value and its cause.
    metadata : mapping of str to Metadata
    frequency : Frequency
    currency : str
    warnings : tuple of str
    missing : MissingData or None
        Missing values before rows were dropped; :meth:`sample` counts them again.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> print(panel)
    Panel: 252 monthly rows, 2004-01 to 2024-12, QML
    23 assets, factors market, size, value, momentum, conditions none; risk-free bill
    missing values, most first: LMPB 102, ORSL 89, FTHL 63, BRTW 1, EBMK 1
    >>> panel.sample("2024").assets.shape
    (12, 23)
    """

    assets: pd.DataFrame
    factors: pd.DataFrame
    conditions: pd.DataFrame
    risk_free: pd.Series
    coverage: pd.DataFrame
    missing_log: pd.DataFrame
    metadata: Mapping[str, Metadata]
    frequency: Frequency
    currency: str
    warnings: tuple[str, ...] = ()
    missing: MissingData | None = None

    @property
    def excess(self) -> SeriesTable:
        """Asset returns less the risk-free return of the same period; total returns without a risk-free rate."""
        block = self.assets.to_numpy() - self.risk_free.to_numpy()[:, None]
        metadata_list = [self.metadata[str(n)] for n in self.assets]
        if self.has_risk_free:
            rate = str(self.risk_free.name)
            step = step_of("excess", of=rate)
            metadata_list = [metadata.with_step(step, excess_of=rate) for metadata in metadata_list]
        table = SeriesTable.from_arrays(block, self.assets.index, metadata_list)
        dropped = {} if self.missing is None else self.missing.dropped()
        return table.copy_with(dropped=dropped)

    @property
    def has_risk_free(self) -> bool:
        """Whether returns are in excess of a risk-free rate; without one, betas are those of the market model."""
        return str(self.risk_free.name) != NO_RATE

    def check_excess(self, purpose: str) -> None:
        """Raise an error if a purpose needs excess returns and the panel has no risk-free rate.

        Parameters
        ----------
        purpose : str
            The purpose, for the message.
        """
        if not self.has_risk_free:
            raise AlignmentError(
                f"{purpose} needs excess returns, and the panel has no risk-free rate. Set risk_free in align."
            )

    @property
    def factor_table(self) -> SeriesTable:
        """The factors with metadata."""
        return SeriesTable(self.factors, tuple(self.metadata[str(n)] for n in self.factors))

    @property
    def rate(self) -> TimeSeries:
        """The risk-free return with metadata."""
        return TimeSeries(self.risk_free, self.metadata[str(self.risk_free.name)])

    @property
    def asset_names(self) -> list[str]:
        """Names of the assets."""
        return [str(name) for name in self.assets]

    def wide(self) -> pd.DataFrame:
        """One row per period; two column levels for assets, factors, conditioning variables and risk-free return.

        Returns
        -------
        DataFrame
            Rows by period.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.wide().iloc[:2, :3].round(4)
                  asset
                   BRTW    EBMK    CSHW
        period
        2004-01     NaN     NaN     NaN
        2004-02 -0.0642 -0.0705 -0.0042
        """
        parts = {
            "asset": self.assets,
            "factor": self.factors,
            "condition": self.conditions,
            "risk-free": self.risk_free.to_frame(),
        }
        return pd.concat({k: v for k, v in parts.items() if v.shape[1]}, axis=1)

    def long(self) -> pd.DataFrame:
        """One row per period and asset with a return: excess return, factors, conditioning variables.

        Returns
        -------
        DataFrame
            Rows by period and asset.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.long().head(2)
            period asset  excess_return    market      size     value  momentum
        1  2004-02  BRTW      -0.066903 -0.031743  0.020195 -0.003489  0.020469
        2  2004-03  BRTW       0.180184  0.073776  0.018839 -0.018346 -0.034507
        """
        excess = self.excess.to_frame().rename_axis("period").reset_index()
        frame = excess.melt("period", var_name="asset", value_name="excess_return").dropna()
        right = self.factors.join(self.conditions).rename_axis("period")
        return frame.merge(right, left_on="period", right_index=True, how="left")

    def sample(self, start: str | None = None, end: str | None = None) -> Panel:
        """Subsample from ``start`` to ``end``, both included.

        Parameters
        ----------
        start : str, optional
            First date or period, included; by default from the beginning.
        end : str, optional
            Last date or period, included; by default to the end.

        Returns
        -------
        Panel
            The subsample, with its own log of missing data.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.sample("2010-01", "2014-12").assets.shape
        (60, 23)
        """
        rows = rows_between(self.risk_free.index, self.frequency, start, end)
        rate = self.risk_free.iloc[rows]
        if not len(rate):
            raise AlignmentError(
                f"The panel runs {span_of(self.assets.index)}; it has no period from {start or 'its start'} to "
                f"{end or 'its end'}."
            )
        missing, coverage = self.missing, self.coverage
        missing_log = self.missing_log[self.missing_log["period"].isin(rate.index)]
        if missing is not None:
            whole = missing.seen.ordinals
            low, high = int(whole[0]), int(whole[-1])
            if start is not None:
                low = self.frequency.ordinal_of_name(str(start)[:10])
            if end is not None:
                high = self.frequency.ordinal_of_name(str(end)[:10], last=True)
            missing = missing.within(low, high)
            coverage, missing_log = missing.coverage(), missing.missing_log()
        return replace(
            self,
            assets=self.assets.iloc[rows],
            factors=self.factors.iloc[rows],
            conditions=self.conditions.iloc[rows],
            risk_free=rate,
            coverage=coverage,
            missing_log=missing_log,
            missing=missing,
        )

    def to_frame(self) -> pd.DataFrame:
        """Same as :meth:`wide`.

        Returns
        -------
        DataFrame
            Rows by period.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> panel.to_frame()[[("asset", "BRTW"), ("factor", "market")]].tail(2).round(4)
                  asset  factor
                   BRTW  market
        period
        2024-11  0.0504  0.0247
        2024-12 -0.0005  0.0347
        """
        return self.wide()

    def __repr__(self) -> str:
        span = span_of(self.assets.index)
        counts = (
            f"{quantity(self.assets.shape[1], 'asset')}, factors {', '.join(map(str, self.factors)) or 'none'}, "
            f"conditions {', '.join(map(str, self.conditions)) or 'none'}"
        )
        worst = self.missing_log["series"].value_counts().head(5)
        lost = ", ".join(f"{name} {count}" for name, count in worst.items())
        return (
            f"Panel: {len(self.assets)} {self.frequency.name} rows, {span}"
            f"{', ' + self.currency if self.currency else ''}\n"
            f"{counts}; risk-free {self.risk_free.name}\nmissing values, most first: {lost or 'none'}"
            + "".join(f"\nwarning: {text}" for text in self.warnings)
        )

    def _repr_html_(self) -> str:
        return table_html(self.coverage, repr(self))
