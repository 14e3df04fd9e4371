"""Run a study, then write its report."""

from __future__ import annotations

import os
from collections.abc import Callable

from ultrum.core.arguments import validate_arguments
from ultrum.sources.credentials import CredentialStore
from ultrum.study.run import StudyResult, run
from ultrum.study.schema import Study


@validate_arguments
def run_study(
    study: Study | str | os.PathLike[str],
    *,
    to: str | os.PathLike[str] | None = None,
    vault: str | os.PathLike[str] | None = None,
    offline: bool = False,
    at: str | None = None,
    keep: bool = True,
    refresh: bool = False,
    progress: Callable[[str], None] | None = None,
    credentials: CredentialStore | str | os.PathLike[str] | None = None,
) -> StudyResult:
    """Run a study, from its file or as an object, and write its report if a folder is given.

    Parameters
    ----------
    study : Study or path
        The study; a file is checked completely before anything is downloaded.
    to : path, optional
        Folder for the report, tables and figures. An earlier report is replaced; without a folder nothing is
        written.
    vault : path, optional
        Folder of the vault.
    offline : bool
        Use the vault only; download nothing.
    at : str, optional
        Use the vault as of this day or instant (point-in-time); nothing is downloaded.
    keep : bool
        Store the result of each stage next to the vault, and compute only what has changed. The results are the
        same either way.
    refresh : bool
        Download everything again, even where the source reports no change.
    progress : callable, optional
        Called with a short text at the start of each step.
    credentials : CredentialStore or path, optional
        Credentials that the study's sources use; by default those of the user's configuration folder.

    Returns
    -------
    StudyResult
        Every result of the study.

    Raises
    ------
    StudyError
        If the study is not valid.
    SourceError, VaultError, UltrumError
        If needed data are unavailable or inconsistent.
    PartlyWrittenError
        If an export cannot be written; all others are.

    Examples
    --------
    >>> import tempfile, ultrum as ul
    >>> study = ul.Study.load(ul.practice.demo_study())
    >>> with tempfile.TemporaryDirectory() as folder, ul.practice.serve() as service:
    ...     result = run_study(study.with_sources_at(service.places), vault=folder)
    >>> result.company
    'BRTW'
    """
    plan = study if isinstance(study, Study) else Study.load(study)
    result = run(
        plan,
        vault=vault,
        offline=offline,
        at=at,
        keep=keep,
        refresh=refresh,
        progress=progress,
        credentials=credentials,
    )
    if to is not None:
        from ultrum.report.result_files import write_results

        if progress is not None:
            progress("writing the report")
        write_results(result, to)
    return result
