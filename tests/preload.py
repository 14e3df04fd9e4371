"""What programs of the documentation and tests import and read, loaded once and shared by their processes."""

import matplotlib.font_manager
import matplotlib.pyplot
import pyarrow.parquet
import scipy.special
import uvicorn

import tests.programs
import ultrum
import ultrum.cli
import ultrum.practice.service
import ultrum.practice.statistics_service
import ultrum.report.html_report
import ultrum.study.run

__all__ = ["matplotlib", "pyarrow", "scipy", "tests", "ultrum", "uvicorn"]

for module in (ultrum, ultrum.figures, ultrum.practice):
    for name in dir(module):
        getattr(module, name)
matplotlib.font_manager.findfont("DejaVu Sans")
ultrum.practice.panel()
ultrum.practice.statistics_service.bars()
