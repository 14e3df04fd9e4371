"""Methods of results that the report layer carries out: tables for journals, and figures.

The layer above is named as text and loaded when a method is called, so that estimation never loads figures.
"""

from __future__ import annotations

import importlib
from typing import Any, ClassVar

_TABLES, _FIGURES = "ultrum.report.model_tables", "ultrum.report.figures"


class ToLatex:
    """A result that becomes a table of a paper."""

    def to_latex(self, *, caption: str = "", label: str = "", **options: object) -> str:
        r"""The estimates as a LaTeX table, with the rules of the package booktabs.

        Parameters
        ----------
        caption, label : str
            With one of them the table is a floating one, with its notes below; it then needs threeparttable too.
        **options
            As for :func:`ultrum.model_table`, such as ``below="t"`` or ``digits=2``.

        Returns
        -------
        str
            Text for ``\input``.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> print(fit.to_latex(caption="Beta of BRTW", label="tab:beta", below="t").splitlines()[4])
        \label{tab:beta}
        """
        table = importlib.import_module(_TABLES).model_table(self, **options)
        return str(table.to_latex(caption=caption, label=label))


class ToPlot:
    """A result with a figure of its own."""

    _figure: ClassVar[str]

    def plot(self, **options: object) -> Any:
        """The figure of the result; ``ultrum.figures`` has more.

        Parameters
        ----------
        **options
            Those of the figure, such as ``ax``.

        Returns
        -------
        Axes
            Axes with the drawing.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> fit.plot().get_xlabel()
        'market, excess return, % per month'
        """
        return getattr(importlib.import_module(_FIGURES), self._figure)(self, **options)
