"""How the documents become a site: script/docs."""

from __future__ import annotations

from rilievo._version import __version__

project = "Rilievo"
author = "The Rilievo developers"
copyright = "2026, The Rilievo developers"  # noqa: A001 (Sphinx's name)
version = release = __version__
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon"]
source_suffix = {".md": "markdown"}
exclude_patterns = ["screenshots/*.md", "site"]
root_doc = "index"
language = "en"
nitpicky = False

myst_enable_extensions = ["colon_fence"]
myst_heading_anchors = 4
# Links out of the documents lead to files of the source.
suppress_warnings = ["myst.header"]

html_theme = "calm"
html_theme_path = ["."]
html_title = f"Rilievo {__version__}"
html_show_sphinx = False
html_copy_source = False
html_permalinks = False

autodoc_typehints = "description"
autodoc_member_order = "bysource"
autodoc_default_options = {"members": True, "show-inheritance": False}
add_module_names = False
