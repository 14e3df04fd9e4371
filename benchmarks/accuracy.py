"""Correct digits of least squares against exact rational arithmetic, by condition number"""

from fractions import Fraction

import numpy as np

from ultrum.core.regression.engine.least_squares import coefficients, least_squares, solve_moments

CONDITIONS = (1e2, 1e4, 1e6, 1e8, 1e10, 1e12)
DESIGNS, ROWS, COLUMNS = 20, 60, 4


def design(condition, seed):
    """A design with singular values from one down to 1/condition, and a response with noise."""
    rng = np.random.default_rng(seed)
    left = np.linalg.qr(rng.normal(size=(ROWS, COLUMNS)))[0]
    right = np.linalg.qr(rng.normal(size=(COLUMNS, COLUMNS)))[0]
    X = left @ np.diag(np.geomspace(1.0, 1.0 / condition, COLUMNS)) @ right.T
    return X, X @ rng.normal(size=COLUMNS) + 0.1 * np.linalg.norm(X) / ROWS * rng.normal(size=ROWS)


def exact(X, y):
    """Normal equations of the numbers as they are stored, solved in rational arithmetic."""
    A = [[Fraction(v) for v in row] for row in X.tolist()]
    b = [Fraction(v) for v in y.tolist()]
    M = [[sum(r[i] * r[j] for r in A) for j in range(COLUMNS)] + [sum(r[i] * v for r, v in zip(A, b, strict=True))]
         for i in range(COLUMNS)]  # fmt: skip
    for i in range(COLUMNS):
        for j in range(COLUMNS):
            if j != i:
                ratio = M[j][i] / M[i][i]
                M[j] = [p - ratio * q for p, q in zip(M[j], M[i], strict=True)]
    return np.array([float(M[i][COLUMNS] / M[i][i]) for i in range(COLUMNS)])


def digits(got, want):
    error = np.max(np.abs(got - want) / np.abs(want))
    return 16.0 if error == 0 else min(16.0, -np.log10(error))


def solutions(X, y):
    """By the engine's QR with refinement, by plain QR, and by batched Cholesky, which may refuse."""
    names = [str(k) for k in range(COLUMNS)]
    loose = solve_moments((X.T @ X)[None], (X.T @ y)[None], np.array([y @ y]))
    return (
        least_squares(X, y[:, None], names).coefficients[:, 0],
        coefficients(X, y),
        None if loose[1][0] else loose[0][0],
    )


def run():
    lines = [
        "| condition number | QR, refined | QR alone | batched Cholesky | sent on to QR |",
        "|---:|---:|---:|---:|---:|",
    ]
    for condition in CONDITIONS:
        found = [[], [], []]
        for seed in range(DESIGNS):
            X, y = design(condition, seed)
            want = exact(X, y)
            for place, got in enumerate(solutions(X, y)):
                if got is not None:
                    found[place].append(digits(got, want))
        cells = [f"{min(d):.1f} ({np.median(d):.1f})" if d else "none" for d in found]
        sent = DESIGNS - len(found[2])
        lines.append(f"| 1e{np.log10(condition):.0f} | {' | '.join(cells)} | {sent} of {DESIGNS} |")
    return "\n".join([*lines, "", "Worst of twenty designs, in parentheses the median."])
