"""How the reference of the Python interface is made of its docstrings; `ops/reference.sh` makes it."""

from kind_echo import __version__

project = "Kind Echo"
author = "the makers of Kind Echo"
version = release = __version__
extensions = ["sphinx.ext.autodoc", "sphinx.ext.napoleon"]
default_role = "code"
autodoc_member_order = "bysource"
autodoc_typehints = "signature"
autodoc_preserve_defaults = True
html_theme = "alabaster"
html_theme_options = {"fixed_sidebar": True, "show_powered_by": False}
html_show_copyright = False
html_show_sphinx = False
html_copy_source = False
html_sidebars = {"**": ["about.html", "searchfield.html", "localtoc.html"]}
