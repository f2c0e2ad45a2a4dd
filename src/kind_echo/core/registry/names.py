"""What may stand in a name that people, files and machines bring.

Names are shown in sentences and lists, stand in addresses and are written into files: a character that is not seen,
that ends a line or turns the direction of what follows makes one name look like another.
"""

import re
import unicodedata

_UNSEEN = frozenset({"Cc", "Cs", "Zl", "Zp"})
_DIRECTIONS = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\ufeff")
"""Marks that turn the direction of text (Unicode Standard Annex 9), and the mark of byte order."""


def _is_plain(character: str) -> bool:
    return unicodedata.category(character) not in _UNSEEN and character not in _DIRECTIONS


def check_title(title: str) -> str:
    """The same title. Raises ValueError for one with a control character or a mark of direction."""
    if not all(map(_is_plain, title)):
        raise ValueError("a name has no control characters, and no marks that turn the direction of text")
    return title


def check_name(name: str) -> str:
    """The same name. Raises ValueError for one with a control character, a mark of direction, or a slash."""
    if "/" in name or not all(map(_is_plain, name)):
        raise ValueError("a name has no control characters, no marks that turn the direction of text, and no slash")
    return name


def plain_name(name: str) -> str:
    """A name without what `check_name` refuses: characters that are not seen go, a slash becomes a hyphen."""
    kept = "".join(c if _is_plain(c) else " " if c.isspace() else "" for c in name.replace("/", "-"))
    return re.sub(r"\s+", " ", kept).strip()


def file_name(name: str) -> str:
    """The last part of a path as the name of a file, without what is not seen; "file" where nothing is left."""
    return plain_name(re.split(r"[/\x00]", name)[-1]) or "file"


def build_name(name: str) -> str:
    """The name of a build, which stands in addresses and commands. Raises ValueError."""
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,79}", name):
        form = "begins with a letter or a digit, and has letters, digits and . _ + - alone, 80 at most"
        raise ValueError(f"{name!r} cannot be the name of a build, which {form}")
    return name
