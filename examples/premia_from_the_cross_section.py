"""Premia of exposures: two-pass premia, their errors, and predicted against realised returns."""

import ultrum as ul

panel = ul.practice.panel()
made = ul.two_pass(panel)
print(made)
balanced = panel.sample("2012-07", "2017-07")  # every company is listed: Shanken's errors apply
print(ul.two_pass(balanced, ["market"]))
print(ul.two_pass(panel, beta_sample="rolling", window=60))
true = ul.practice.truth().premia
print("true annual premia, %:", (100 * true).round(1).to_dict())
ul.figures.to_png(ul.figures.predicted_against_realised(made), "predicted.png")
