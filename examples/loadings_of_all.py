"""Four-factor loadings of all companies, a joint test of their alphas, and a table for a paper."""

import ultrum as ul

panel = ul.practice.panel()
table = ul.factor_betas(panel)
print(ul.model_table(table, below="t", title="Monthly excess returns on four factors"))
print(ul.joint_alpha_test(panel, how="robust"))

fits = {name: ul.factor_betas(panel, factors).fit("BRTW") for name, factors in
        {"market": ["market"], "three": ["market", "size", "value"], "four": None}.items()}  # fmt: skip
side_by_side = ul.model_table(fits, title="Brightwater Tidal")
print(side_by_side)
print(side_by_side.to_latex())
