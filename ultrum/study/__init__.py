"""The study file: the whole job in one TOML file, checked before anything is downloaded."""

from ultrum.study.result import StudyResult
from ultrum.study.run import run_study
from ultrum.study.schema import Study

__all__ = ["Study", "StudyResult", "run_study"]
