"""Names of files that are made from words that people chose."""

import re
import unicodedata


def slug(text: str) -> str:
    """Small letters, digits and hyphens alone, so that any disk takes it; a minus sign is kept as a word."""
    named = text.replace("−", "minus ").replace("×", "x").replace("+", "plus ")
    plain = unicodedata.normalize("NFKD", named).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9.]+", "-", plain.lower()).strip("-.") or "unnamed"
