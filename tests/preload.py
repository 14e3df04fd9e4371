"""What programs of the documentation import, loaded once and shared by their processes."""

import matplotlib.pyplot
import pyarrow.parquet
import scipy.special
import uvicorn

import ultrum
import ultrum.cli
import ultrum.practice.service
import ultrum.study

__all__ = ["matplotlib", "pyarrow", "scipy", "ultrum", "uvicorn"]
