"""The study file: the whole job in one TOML file, checked before anything is downloaded."""

from ultrum.study.schema import Study
from ultrum.study.study_result import StudyResult

__all__ = ["Study", "StudyResult"]
