"""Recursive filters, as compiled for this processor; types are in the `.pyi` beside."""

from kind_echo.core.compiled.variants import variant

globals().update(variant("recursions"))
