"""Builds these documents and the reference of the core into docs/_build, without network: `make
docs`."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

project = "Accurate Aperture"
extensions = ["sphinx.ext.autodoc", "sphinx.ext.autosummary", "numpydoc", "myst_parser"]
autosummary_generate = True
autodoc_default_options = {"members": True}
numpydoc_show_class_members = False
exclude_patterns = ["_build", "screenshots"]
html_theme = "alabaster"
suppress_warnings = ["myst.xref_missing"]
