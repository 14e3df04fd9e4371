"""A page that shows only today's freight rate becomes a series by being pulled day after day."""

import pandas as pd

import ultrum as ul

with ul.practice.serve() as service:
    sources = ul.practice.sources_at(service.places)
    for day in pd.bdate_range("2024-12-02", "2024-12-13"):
        service.set_today(str(day.date()))
        with ul.Desk("freight-vault", sources=sources) as desk:  # as if the job ran once a day
            freight = desk.fetch("harbour:freight")

print(freight)
print(freight.metadata.trail[-1])
