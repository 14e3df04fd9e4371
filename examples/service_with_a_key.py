"""Fetch from a service that asks for a key, which is in an environment variable and nowhere else."""

import os
from pathlib import Path
from urllib.parse import urlsplit

import ultrum as ul

os.environ["STATISTICS_KEY"] = "a made-up key"
with ul.practice.serve() as service:
    place = service.places["observatory"]
    Path("credentials.toml").write_text(f"""
[statistics]
kind = "header"
name = "X-Api-Key"
variable = "STATISTICS_KEY"
hosts = ["{urlsplit(place).netloc}"]
""")
    sources = {"statistics": {"kind": "sdmx", "url": place, "credentials": "statistics"}}
    with ul.Desk("key-vault", sources=sources, credentials="credentials.toml") as desk:
        cpi = desk.fetch("statistics:PRICES/M.QM.CPI", start="2024-10")
print("Consumer prices of Miravel, fetched with a key:")
print(cpi.to_pandas().to_string())
