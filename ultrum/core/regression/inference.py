"""Tests and quantiles that results share."""

from __future__ import annotations

import html
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
import scipy.special

from ultrum.core.types import Array, Floats
from ultrum.errors import EstimationError


@dataclass(frozen=True)
class TestResult:
    """A test statistic with its distribution under the null hypothesis.

    ``df`` holds the degrees of freedom, numerator first.
    """

    statistic: float
    distribution: str
    df: tuple[float, ...]
    p_value: float
    note: str = ""

    @classmethod
    def of_f(cls, statistic: float, above: int, below: int, note: str = "") -> TestResult:
        """F test with its upper-tail p value."""
        p_value = float(scipy.special.fdtrc(above, below, max(statistic, 0.0)))
        return cls(float(statistic), f"F({above}, {below})", (above, below), p_value, note)

    def to_frame(self) -> pd.DataFrame:
        """One row."""
        row = {"statistic": self.statistic, "distribution": self.distribution}
        return pd.DataFrame([{**row, "p_value": self.p_value, "note": self.note}])

    def __repr__(self) -> str:
        tail = f"  {self.note}" if self.note else ""
        return f"{self.distribution} = {self.statistic:.4g}, p = {self.p_value:.4g}{tail}"

    def _repr_html_(self) -> str:
        return f"<p>{html.escape(repr(self))}</p>"


def t_quantile(level: float, df: Any) -> Any:
    """Two-sided quantile of Student's t for a confidence level."""
    if not 0.0 < level < 1.0:
        raise EstimationError(f"A confidence level lies between 0 and 1, not {level}.")
    return scipy.special.stdtrit(df, 0.5 + level / 2.0)


def t_p_values(t_values: Array, df: Any) -> Floats:
    """Two-sided p values of Student's t."""
    return np.asarray(2.0 * scipy.special.stdtr(df, -np.abs(t_values)))
