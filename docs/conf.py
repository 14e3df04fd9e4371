"""How the pages and docstrings become a site: ``sphinx-build -W docs site``."""

import sys
from importlib import metadata

import ultrum

sys.modules["ultrum.figures"] = ultrum.figures  # as it is called, wherever it lies

project = "Ultrum"
author = "The founders of Ultrum"
release = version = metadata.version("ultrum")
extensions = ["sphinx.ext.autodoc", "sphinx.ext.autosummary", "sphinx.ext.napoleon", "myst_nb"]
exclude_patterns = ["screenshots", "_build"]
html_theme = "furo"
html_title = f"Ultrum {release}"
html_show_sphinx = False
html_show_copyright = False
html_copy_source = False
autosummary_generate = True
autodoc_typehints = "none"  # they stand in the signatures and in words below
autodoc_member_order = "bysource"
autodoc_preserve_defaults = True
napoleon_google_docstring = False
napoleon_use_rtype = False
napoleon_use_ivar = True
myst_heading_anchors = 3
suppress_warnings = ["myst.xref_missing", "myst.header"]
nb_execution_mode = "cache"  # pages run; what has not changed is taken from the last build
nb_execution_in_temp = True
nb_execution_timeout = 300
nb_execution_raise_on_error = True
nb_merge_streams = True
nitpicky = False
