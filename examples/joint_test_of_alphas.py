"""Are all alphas zero? The exact F test, the robust one and the bootstrap, on assets with whole histories."""

import ultrum as ul

panel = ul.practice.panel()
whole = [n for n in panel.assets if panel.assets[n].notna().sum() >= len(panel.assets) - 1]
panel = ul.align(
    assets=ul.SeriesTable.from_pandas(panel.assets[whole], measure="return"),
    factors=panel.factor_table,
    risk_free=panel.rate,
)
print(f"{len(whole)} assets, four factors:")
for how in ("exact", "robust", "bootstrap"):
    result = ul.joint_alpha_test(panel, how=how)
    print(f"{how:10} {result!r}")
