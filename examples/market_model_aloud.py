"""One company's market model, read aloud line by line, and what could be wrong with it."""

import ultrum as ul

panel = ul.practice.panel()
fit = ul.factor_betas(panel, ["market"]).fit("BRTW")
print(fit)
print()
print(fit.in_words())
print()
print(ul.diagnose(fit))
print()
tug = ul.factor_betas(panel).fit("MRWG")  # a company whose business changed
print("MRWG:", ul.break_test(tug, how="sup-f"))
ul.figures.to_png(ul.figures.beta_path(ul.kalman_beta(panel), "MRWG"), "moving_beta.png")
