"""The function that does the work of each public one, for data on disk."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Final

from ultrum.errors import TableError
from ultrum.large.block_returns import returns
from ultrum.large.block_rolling import rolling_regress
from ultrum.large.estimators import factor_betas, two_pass
from ultrum.large.long_panel import align

Jobs = Mapping[str, Callable[..., Any]]
JOBS: Final[Jobs] = {"rolling_regress": rolling_regress, "returns": returns, "align": align}
JOBS_OF_PANELS: Final[Jobs] = {"factor_betas": factor_betas, "two_pass": two_pass}


def job_of(function: str, known: Jobs, kind: str) -> Callable[..., Any]:
    """The work of that name, or what to give the function instead."""
    if function in known:
        return known[function]
    wants = (
        "a LongPanel, made by align of a LongTable" if function in JOBS_OF_PANELS else "a LongTable"
    )
    raise TableError(f"{function} takes {wants}; it was given a {kind}.")
