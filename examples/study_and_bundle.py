"""A study made in Python, run, bundled, and run again elsewhere without a network: the same numbers."""

from pathlib import Path

import ultrum as ul
from ultrum.study.bundles_and_changes import bundle, unbundle

shipped = Path(ul.practice.__file__).parent / "studies" / "market_model.toml"
with ul.practice.serve() as service:
    study = ul.Study.load(shipped).with_sources_at(service.places)
    result = ul.run_study(study, vault="study-vault", to="study-results")
print(result)
packed = bundle(result, "study-vault", "study.zip")
there, vault = unbundle(packed, "elsewhere")
again = ul.run_study(there, vault=vault, offline=True)
print(f"same run elsewhere: {again.run == result.run}")
print(f"files: {sorted(p.name for p in Path('study-results').iterdir())}")
