"""Regression tables in journal style: one model per column, standard errors or t values below."""

from __future__ import annotations

import html
import re
import textwrap
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final, Literal

import numpy as np
import pandas as pd

from ultrum.core.arguments import validate_arguments
from ultrum.core.presentation import decimals, significant, true_minus
from ultrum.core.pricing.two_pass_result import KINDS_IN_WORDS, TwoPass
from ultrum.core.regression.beta_table import BetaTable
from ultrum.core.regression.engine.covariance_and_bootstrap import errors_name
from ultrum.core.regression.fit import Fit
from ultrum.core.regression.panel_regression import PooledFit
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import UltrumError, printable

BELOW: Final = {"errors": "standard errors", "t": "t values", "p": "p values"}
_STARS: Final = ((0.01, "***"), (0.05, "**"), (0.10, "*"))
Model = Fit | PooledFit | TwoPass


@dataclass(frozen=True, eq=False, repr=False)
class ModelTable:
    """A table of estimates.

    Attributes
    ----------
    head : list of str
        Names of the columns.
    body : list of (str, list of str)
        A label and one cell per column; values below others have an empty label.
    tail : list of (str, list of str)
        Rows below the line: observations, R² and so on.
    notes : list of str
    title : str
    """

    head: list[str]
    body: list[tuple[str, list[str]]]
    tail: list[tuple[str, list[str]]]
    notes: list[str]
    title: str = ""

    def to_frame(self) -> pd.DataFrame:
        """The cells as text.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> both = {n: ul.factor_betas(panel, list(panel.factors)[:n]) for n in (1, 2)}
        >>> table = ul.model_table({f"{n} factors": betas.fit("BRTW") for n, betas in both.items()})
        >>> table.to_frame().iloc[:3]
                 1 factors 2 factors
        constant     0.003     0.003
                   (0.004)   (0.004)
        market       0.564     0.607
        """
        rows = [*self.body, *self.tail]
        return pd.DataFrame([cells for _, cells in rows], [label for label, _ in rows], self.head)

    def to_text(self) -> str:
        """Aligned text.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> both = {n: ul.factor_betas(panel, list(panel.factors)[:n]) for n in (1, 2)}
        >>> table = ul.model_table({f"{n} factors": betas.fit("BRTW") for n, betas in both.items()})
        >>> print(table.to_text())
        ──────────────────────────────────────────────
                                  1 factors  2 factors
        ──────────────────────────────────────────────
        constant                      0.003      0.003
                                    (0.004)    (0.004)
        market                        0.564      0.607
                                    (0.104)    (0.104)
        size                                    −0.365
                                               (0.238)
        ──────────────────────────────────────────────
        Observations                    251        251
        R²                            0.120      0.130
        Adjusted R²                   0.116      0.123
        Std. error of regression    0.06494    0.06469
        ──────────────────────────────────────────────
        Standard errors in parentheses: Newey–West (HAC) (4 lags).
        Sample: BRTW, 2004-02 to 2024-12.
        """
        rows = [("", self.head), *self.body, *self.tail]
        first = max(len(label) for label, _ in rows)
        wide = [max(len(cells[k]) for _, cells in rows) for k in range(len(self.head))]
        lines = [
            (f"{label:<{first}}  " + "  ".join(c.rjust(w) for c, w in zip(cells, wide, strict=True))).rstrip()
            for label, cells in rows
        ]
        rule = "─" * max(len(line) for line in lines)
        cut = 1 + len(self.body)
        parts = [rule, lines[0], rule, *lines[1:cut], rule, *lines[cut:], *([rule] if self.tail else [])]
        notes = [line for note in self.notes for line in textwrap.wrap(note, max(60, min(len(rule), 100)))]
        return printable("\n".join([*([self.title] if self.title else []), *parts, *notes]))

    def to_markdown(self) -> str:
        """A pipe table, for common readers of Markdown.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> both = {n: ul.factor_betas(panel, list(panel.factors)[:n]) for n in (1, 2)}
        >>> table = ul.model_table({f"{n} factors": betas.fit("BRTW") for n, betas in both.items()})
        >>> print(table.to_markdown().splitlines()[2])
        | constant | 0.003 | 0.003 |
        """

        def _line(label: str, cells: Sequence[str]) -> str:
            return "| " + " | ".join(_bar(c) for c in (label, *cells)) + " |"

        rule = "|---|" + "---:|" * len(self.head)
        rows = [_line(label, cells) for label, cells in (*self.body, *self.tail)]
        notes = [f"\n{_bar(note)}" for note in self.notes]
        title = [f"**{_bar(self.title)}**\n"] if self.title else []
        return "\n".join([*title, _line("", self.head), rule, *rows, *notes])

    def to_html(self) -> str:
        """A table with a caption, header cells for screen readers, and notes below.

        Examples
        --------
        >>> import ultrum as ul
        >>> panel = ul.practice.panel()
        >>> both = {n: ul.factor_betas(panel, list(panel.factors)[:n]) for n in (1, 2)}
        >>> table = ul.model_table({f"{n} factors": betas.fit("BRTW") for n, betas in both.items()})
        >>> table.to_html()[:6]
        '<table'
        """

        def _row(label: str, cells: Sequence[str], kind: str = "td") -> str:
            named = kind == "td" and label
            first = f'<th scope="row">{html.escape(label)}</th>' if named else "<td></td>"
            scope = ' scope="col"' if kind == "th" else ""
            return f"<tr>{first}" + "".join(f"<{kind}{scope}>{html.escape(c)}</{kind}>" for c in cells) + "</tr>"

        notes = " ".join(html.escape(note) for note in self.notes)
        return "\n".join(
            [
                "<table>",
                f"<caption>{html.escape(self.title)}</caption>" if self.title else "",
                f"<thead>{_row('', self.head, 'th')}</thead>",
                "<tbody>",
                *(_row(label, cells) for label, cells in (*self.body, *self.tail)),
                "</tbody>",
                f'<tfoot><tr><td colspan="{len(self.head) + 1}">{notes}</td></tr></tfoot>',
                "</table>",
            ]
        )

    def to_latex(self, *, caption: str = "", label: str = "") -> str:
        r"""A tabular with the rules of the package booktabs, and the notes below it.

        Parameters
        ----------
        caption, label : str
            With one of them the tabular is in a floating table; the notes then need the package threeparttable.

        Returns
        -------
        str
            Text for ``\input``.

        Examples
        --------
        >>> import ultrum as ul
        >>> fit = ul.factor_betas(ul.practice.panel(), ["market"]).fit("BRTW")
        >>> print(ul.model_table(fit).to_latex(label="tab:beta").splitlines()[0])
        % needs the packages booktabs and threeparttable
        """

        def _row(name: str, cells: Sequence[str]) -> str:
            return " & ".join(_latex(c) for c in (name, *cells)) + r" \\"

        tabular = [
            r"\begin{tabular}{l" + "r" * len(self.head) + "}",
            r"\toprule",
            _row("", self.head),
            r"\midrule",
            *(_row(name, cells) for name, cells in self.body),
            *([r"\midrule"] if self.tail else []),
            *(_row(name, cells) for name, cells in self.tail),
            r"\bottomrule",
            r"\end{tabular}",
        ]
        if caption or label:
            return _floating(tabular, [_latex(note) for note in self.notes], caption or self.title, label)
        about = f"% {' '.join(printable(self.title).split())}" if self.title else "% needs the package booktabs"
        notes = [rf"\par{{\footnotesize {_latex(note)}\par}}" for note in self.notes]
        return "\n".join([about, *tabular, *notes]) + "\n"

    def __repr__(self) -> str:
        return self.to_text()

    def _repr_html_(self) -> str:
        return self.to_html()


@validate_arguments
def model_table(
    models: Mapping[str, Model] | Sequence[Model] | Model | BetaTable,
    *,
    below: Literal["errors", "t", "p"] = "errors",
    stars: bool = False,
    digits: int = 3,
    names: Mapping[str, str] | None = None,
    title: str = "",
) -> ModelTable:
    """Model comparison, or the regressions of many assets one below the other.

    Parameters
    ----------
    models : mapping of str to Fit, PooledFit or TwoPass; sequence; or BetaTable
        One column per model; for a BetaTable one row per asset and one column per term.
    below : {"errors", "t", "p"}
        The statistic in parentheses below each coefficient.
    stars : bool
        Stars at 10, 5 and 1 %; off by default.
    digits : int
        Number of decimals.
    names : mapping of str to str, optional
        Other names for terms.
    title : str
        Title; by default generated from the data.

    Returns
    -------
    ModelTable
        With ``to_text``, ``to_html``, ``to_markdown`` and ``to_latex``.

    Examples
    --------
    >>> import ultrum as ul
    >>> panel = ul.practice.panel()
    >>> one, four = ul.factor_betas(panel, ["market"]).fit("BRTW"), ul.factor_betas(panel).fit("BRTW")
    >>> table = model_table({"one factor": one, "four factors": four}, below="t")
    >>> table.head
    ['one factor', 'four factors']
    """
    if not 0 <= digits <= 12:
        raise UltrumError(f"digits={digits}: it must be 0 to 12.")
    style = _Style(below, stars, digits, dict(names or {}))
    if isinstance(models, BetaTable):
        return _of_assets(models, style, title)
    if isinstance(models, Fit | PooledFit | TwoPass):
        models = [models]
    if not isinstance(models, Mapping):
        models = {f"({k + 1})": model for k, model in enumerate(models)}
    if not models:
        raise UltrumError("No models were given.")
    return _side_by_side(models, style, title)


@dataclass(frozen=True)
class _Style:
    below: str
    stars: bool
    digits: int
    names: Mapping[str, str]

    def cells(self, value: float, error: float, t: float, p: float) -> tuple[str, str]:
        """A coefficient and the value below it."""
        if np.isnan(value):
            return "", ""
        mark = next((mark for limit, mark in _STARS if p < limit), "") if self.stars else ""
        under = {"errors": error, "t": t, "p": p}[self.below]
        places = self.digits if self.below != "t" else min(self.digits, 2)
        return f"{_true_minus(value, self.digits)}{mark}", f"({_true_minus(under, places)})"

    def name(self, term: str) -> str:
        """Displayed name of a term."""
        return self.names.get(term, term)

    def legend(self) -> list[str]:
        """What the marks mean."""
        return ["* p < 0.10, ** p < 0.05, *** p < 0.01."] if self.stars else []


def _true_minus(value: float, digits: int) -> str:
    """A number with a typographic minus sign, and enough decimals to show small values."""
    if value and abs(value) < 0.5 * 10.0**-digits:
        return f"{value:.1e}".replace("-", "−")
    return f"{value:.{digits}f}".replace("-", "−")


def _side_by_side(models: Mapping[str, Model], style: _Style, title: str) -> ModelTable:
    frames = {name: _figures(model) for name, model in models.items()}
    terms = list(dict.fromkeys(t for frame in frames.values() for t in frame.index))
    body: list[tuple[str, list[str]]] = []
    for term in terms:
        pairs = [
            style.cells(*map(float, frame.loc[term])) if term in frame.index else ("", "")
            for frame in frames.values()
        ]
        body += [(style.name(str(term)), [a for a, _ in pairs]), ("", [b for _, b in pairs])]
    tail = []
    for label, read in _TAIL.items():
        cells = [read(model) for model in models.values()]
        if any(cells):
            tail.append((label, cells))
    kinds = {name: _error_kind(model) for name, model in models.items()}
    return ModelTable(list(models), body, tail, [_about(style, kinds), *_samples(models), *style.legend()], title)


def _figures(model: Model) -> pd.DataFrame:
    """Coefficient, standard error, t and p by term."""
    if isinstance(model, TwoPass):
        columns = {"value": 100 * model.premia, "error": 100 * model.standard_errors, "t": model.t_values}
        return pd.DataFrame({**columns, "p": model.to_frame()["p"]})
    columns = {"value": model.coefficients, "error": model.standard_errors, "t": model.t_values}
    return pd.DataFrame({**columns, "p": model.p_values})


def _rows_of(model: Model) -> str:
    return f"{len(model.slopes) if isinstance(model, TwoPass) else model.nobs:,}"


def _r2_of(model: Model) -> str:
    return true_minus(decimals(model.r2, 3))


def _r2_bar(model: Model) -> str:
    return true_minus(decimals(model.r2_adjusted, 3)) if isinstance(model, Fit) else ""


def _sigma_of(model: Model) -> str:
    return "" if isinstance(model, TwoPass) else significant(model.sigma, 4)


def _effects_of(model: Model) -> str:
    return " and ".join(model.effects) if isinstance(model, PooledFit) else ""


_TAIL: Final[dict[str, Callable[[Model], str]]] = {
    "Effects": _effects_of,
    "Observations": _rows_of,
    "R²": _r2_of,
    "Adjusted R²": _r2_bar,
    "Std. error of regression": _sigma_of,
}


def _error_kind(model: Model) -> str:
    if isinstance(model, TwoPass):
        return KINDS_IN_WORDS[model.kind]
    if isinstance(model, PooledFit):
        return f"clustered by {' and '.join(model.clusters)}"
    kind = errors_name(model.errors)
    return f"{kind} ({model.lags} lags)" if model.lags is not None else kind


def _statistic(style: _Style) -> str:
    """What is below each coefficient, at the start of a sentence; t and p stay small letters."""
    return BELOW[style.below].replace("standard", "Standard")


def _about(style: _Style, kinds: Mapping[str, str]) -> str:
    """The statistic in parentheses, and the kind of standard errors."""
    what = _statistic(style)
    if len(set(kinds.values())) == 1:
        return f"{what} in parentheses: {next(iter(kinds.values()))}."
    shared: dict[str, list[str]] = {}
    for name, kind in kinds.items():
        shared.setdefault(kind, []).append(name)
    return f"{what} in parentheses: " + "; ".join(f"{', '.join(n)}: {kind}" for kind, n in shared.items()) + "."


def _samples(models: Mapping[str, Model]) -> list[str]:
    spans = {}
    for name, model in models.items():
        if isinstance(model, Fit):
            span = " to ".join(period_label(end) for end in model.sample)
            dropped = sum(model.dropped.values())
            prefix = f"{model.name}, " if model.name != name else ""
            spans[name] = f"{prefix}{span}" + (f", observations dropped: {dropped}" if dropped else "")
        else:
            spans[name] = model.basis.split(";")[0]
    percent = ["Premia in percent per period."] if any(isinstance(m, TwoPass) for m in models.values()) else []
    shared: dict[str, list[str]] = {}
    for name, span in spans.items():
        shared.setdefault(span, []).append(name)
    if len(shared) == 1:
        return [f"Sample: {next(iter(shared))}.", *percent]
    return ["Samples: " + "; ".join(f"{', '.join(n)}: {span}" for span, n in shared.items()) + ".", *percent]


def _of_assets(table: BetaTable, style: _Style, title: str) -> ModelTable:
    terms = list(table.coefficients.columns)
    parts = (table.coefficients, table.standard_errors, table.t_values, table.p_values)
    blocks = [part.to_numpy(dtype=np.float64) for part in parts]
    body: list[tuple[str, list[str]]] = []
    for place, asset in enumerate(table.assets):
        pairs = [style.cells(*(float(block[place, k]) for block in blocks)) for k in range(len(terms))]
        r2, rows = float(table.r2.iloc[place]), int(table.nobs.iloc[place])
        shown = "" if np.isnan(r2) else true_minus(decimals(r2, 3))
        body += [(asset, [*(a for a, _ in pairs), shown, f"{rows:,}"]), ("", [*(b for _, b in pairs), "", ""])]
    kind = errors_name(table.errors)
    first, last = table.first.dropna(), table.last.dropna()
    span = f"Samples within {period_label(first.min())} to {period_label(last.max())}." if len(first) else ""
    head = [*(style.name(str(t)) for t in terms), "R²", "rows"]
    notes = [
        f"{BELOW[style.below].replace('standard', 'Standard')} in parentheses: {kind}.",
        span,
        *style.legend(),
    ]
    return ModelTable(head, body, [], [n for n in notes if n], title)


def _bar(text: str) -> str:
    """Text that is safe in a cell of a Markdown table."""
    return re.sub(r"([\\|*_])", r"\\\1", printable(text)).replace("<", "&lt;")


_TEX: Final = {
    "\\": r"\textbackslash{}",
    "&": r"\&",
    "%": r"\%",
    "$": r"\$",
    "#": r"\#",
    "_": r"\_",
    "{": r"\{",
    "}": r"\}",
    "~": r"\textasciitilde{}",
    "^": r"\textasciicircum{}",
    "²": r"$^2$",
    "−": r"$-$",
    "×": r"$\times$",
    "–": "--",
    "<": r"$<$",
    ">": r"$>$",
    "β": r"$\beta$",
    "α": r"$\alpha$",
    "γ": r"$\gamma$",
    "λ": r"$\lambda$",
    "σ": r"$\sigma$",
    "ρ": r"$\rho$",
    "χ": r"$\chi$",
    "τ": r"$\tau$",
    "Δ": r"$\Delta$",
    "Σ": r"$\Sigma$",
    "≤": r"$\le$",
    "≥": r"$\ge$",
    "—": "---",
    "…": r"\dots{}",
    "·": r"$\cdot$",
    "‰": r"\textperthousand{}",
}


def _floating(tabular: list[str], notes: list[str], caption: str, label: str) -> str:
    """A tabular as a floating table with notes of its width."""
    name = re.sub(r"[^\w:.-]", "-", printable(label))
    lines = [
        "% needs the packages booktabs and threeparttable",
        r"\begin{table}[htbp]",
        r"\centering",
        *([rf"\caption{{{_latex(caption)}}}"] if caption else []),
        *([rf"\label{{{name}}}"] if label else []),
        r"\begin{threeparttable}",
        *tabular,
        *([r"\begin{tablenotes}[flushleft]\footnotesize"] if notes else []),
        *(rf"\item {note}" for note in notes),
        *([r"\end{tablenotes}"] if notes else []),
        r"\end{threeparttable}",
        r"\end{table}",
    ]
    return "\n".join(lines) + "\n"


def frame_table(frame: pd.DataFrame) -> ModelTable:
    """Any table of results for a paper: numbers with four significant digits."""
    cells = [[_figure_of(value) for value in row] for row in frame.itertuples(index=False)]
    labels = [period_label(i) if isinstance(i, pd.Period | pd.Timestamp) else str(i) for i in frame.index]
    return ModelTable([str(c) for c in frame], list(zip(labels, cells, strict=True)), [], [])


def _figure_of(value: object) -> str:
    if isinstance(value, float | np.floating):
        return "" if np.isnan(value) else true_minus(significant(float(value), 4))
    return "" if value is None else str(value)


def _latex(text: str) -> str:
    return "".join(_TEX.get(part) or _stars(part) for part in re.findall(r"\*+|[^*]", printable(text)))


def _stars(part: str) -> str:
    return f"$^{{{part}}}$" if part.startswith("*") else part
