"""What may not matter does not: scale, origin, order, units of entry, splits of the sample, threads."""

import os
import subprocess
import sys
import unittest

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import ultrum as ul

KINDS = st.sampled_from(["classical", "hc0", "hc1", "hc2", "hc3", "hac"])
SEEDS = st.integers(0, 10_000)


def world(seed, T=80, N=5, K=2, gaps=0.1):
    rng = np.random.default_rng(seed)
    months = pd.period_range("2010-01", periods=T, freq="M")
    F = pd.DataFrame(rng.normal(0.005, 0.04, (T, K)), months, [f"f{k}" for k in range(K)])
    Y = F.to_numpy() @ rng.normal(0.8, 0.4, (K, N)) + rng.standard_t(4, (T, N)) * 0.03
    Y[rng.random((T, N)) < gaps] = np.nan
    return pd.DataFrame(Y, months, [f"a{i}" for i in range(N)]), F


def close(got, want, scale, most=1e-9):
    """Within a share of the standard errors."""
    assert (np.isnan(np.asarray(got)) == np.isnan(np.asarray(want))).all()
    assert np.nanmax(np.abs(np.asarray(got) - np.asarray(want)) / np.asarray(scale)) <= most


class Invariance(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(SEEDS, KINDS, st.floats(-6, 6), st.sampled_from([-1.0, 1.0]))
    def test_scaling_a_factor_scales_its_beta(self, seed, kind, power, sign):
        Y, F = world(seed)
        c = sign * 10.0**power
        plain = ul.regress(Y, F, errors=kind)
        scaled = ul.regress(Y, F.assign(f0=c * F["f0"]), errors=kind)
        for part in (plain, scaled):
            self.assertEqual(list(part.coefficients), ["constant", "f0", "f1"])
        factor = np.array([1.0, c, 1.0])
        close(scaled.coefficients * factor, plain.coefficients, plain.standard_errors)
        close(scaled.standard_errors * np.abs(factor), plain.standard_errors, plain.standard_errors)
        rolled = [ul.rolling_regress(Y, X, window=40, errors=kind) for X in (F, F.assign(f0=c * F["f0"]))]
        error = rolled[0].standard_errors
        close(rolled[1].coefficients * factor, rolled[0].coefficients, error)
        close(rolled[1].standard_errors * np.abs(factor), error, error)

    @settings(max_examples=40, deadline=None)
    @given(SEEDS, KINDS, st.floats(-3, 3))
    def test_moving_a_factor_moves_alpha_alone(self, seed, kind, shift):
        Y, F = world(seed)
        for estimate in (
            lambda X: ul.regress(Y, X, errors=kind),
            lambda X: ul.rolling_regress(Y, X, window=40, errors=kind),
        ):
            plain, moved = estimate(F), estimate(F.assign(f1=F["f1"] + shift))
            beta, error = np.asarray(plain.coefficients), np.asarray(plain.standard_errors)
            wide = np.maximum(error, abs(shift) * error[..., [2]])  # alpha's own error grows with the shift
            close(np.asarray(moved.coefficients)[..., 1:], beta[..., 1:], error[..., 1:])
            close(np.asarray(moved.standard_errors)[..., 1:], error[..., 1:], error[..., 1:])
            alpha = beta[..., 0] - shift * beta[..., 2]
            close(np.asarray(moved.coefficients)[..., 0], alpha, wide[..., 0])

    @settings(max_examples=25, deadline=None)
    @given(SEEDS, KINDS, st.permutations(range(40)))
    def test_the_order_of_assets_is_only_an_order(self, seed, kind, order):
        Y, F = world(seed, N=40)
        mixed = Y.iloc[:, list(order)]
        plain, other = ul.regress(Y, F, errors=kind), ul.regress(mixed, F, errors=kind)
        close(other.coefficients.loc[Y.columns], plain.coefficients, plain.standard_errors, 1e-11)
        close(other.standard_errors.loc[Y.columns], plain.standard_errors, plain.standard_errors, 1e-11)
        turned = ul.regress(Y, F[F.columns[::-1]], errors=kind)
        close(turned.coefficients[plain.coefficients.columns], plain.coefficients, plain.standard_errors)
        rolled, again = (ul.rolling_regress(y, F, window=40, errors=kind) for y in (Y, mixed))
        close(
            again.coefficients, rolled.coefficients[:, list(order)], rolled.standard_errors[:, list(order)], 1e-11
        )

    @settings(max_examples=25, deadline=None)
    @given(SEEDS)
    def test_percent_and_decimals_are_the_same_numbers(self, seed):
        Y, _ = world(seed, N=2, gaps=0.0)
        text = Y.round(8).rename_axis("month").to_csv()
        percent = (100 * Y.round(8)).round(6).rename_axis("month").to_csv()
        decimal = ul.read_series(text, measure="return", units="decimal")
        said = ul.read_series(percent, measure="return", units="percent")
        for name in Y:
            np.testing.assert_allclose(
                said.series[name].values, decimal.series[name].values, rtol=1e-15, atol=1e-18
            )

    @settings(max_examples=25, deadline=None)
    @given(SEEDS, st.integers(20, 60))
    def test_moments_of_two_halves_make_the_whole(self, seed, cut):
        Y, F = world(seed, N=1, gaps=0.0)
        A = np.column_stack([np.ones(len(F)), F]).astype(np.longdouble)
        y = Y.to_numpy()[:, 0].astype(np.longdouble)
        halves = [(A[s].T @ A[s], A[s].T @ y[s], y[s] @ y[s]) for s in (slice(None, cut), slice(cut, None))]
        gram, cross, square = (sum(parts) for parts in zip(*halves, strict=True))
        inverse = np.linalg.inv(gram.astype(float)).astype(np.longdouble)
        for _ in range(3):  # Newton's steps towards the inverse in long doubles
            inverse = inverse @ (2 * np.eye(3) - gram @ inverse)
        b = inverse @ cross
        sigma2 = (square - b @ cross) / (len(y) - 3)
        table = ul.regress(Y, F, errors="classical")
        error = np.sqrt(np.diag(inverse) * sigma2).astype(float)
        close(table.coefficients.iloc[0], b.astype(float), error, 1e-10)
        close(table.standard_errors.iloc[0], error, error, 1e-10)

    def test_threads_do_not_matter(self):
        code = """
import numpy as np, ultrum as ul
from tests.test_invariance import world
Y, F = world(1, T=240, N=150, K=4)
parts = [ul.regress(Y, F, errors=k).coefficients.to_numpy() for k in ("hac", "hc3")]
parts += [ul.rolling_regress(Y, F, window=60, errors=k).standard_errors for k in ("classical", "hac")]
panel = ul.practice.panel()
parts += [np.asarray(ul.two_pass(panel, draws=50).errors), ul.joint_alpha_test(panel, ["market"]).p_value]
np.save("made.npy", np.concatenate([np.ravel(p) for p in parts]))
"""
        import tempfile

        made = []
        for threads in ("1", "3"):
            names = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")
            with tempfile.TemporaryDirectory() as folder:
                env = {**os.environ, **dict.fromkeys(names, threads), "PYTHONPATH": os.getcwd()}
                subprocess.run([sys.executable, "-c", code], cwd=folder, env=env, check=True)
                made.append(np.load(f"{folder}/made.npy"))
        for other in made[1:]:
            np.testing.assert_allclose(other, made[0], rtol=1e-12, equal_nan=True)
