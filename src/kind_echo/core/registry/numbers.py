"""Numbers as they stand in a sentence: the one place where a minus sign is put."""


def number(value: float, form: str = "g") -> str:
    """A number with a real minus sign, a thin space between thousands, and never −0.

    Args:
        form: of Python's format specification, as "+.2f" or ",.0f".
    """
    text = format(value, form)
    if not text.strip("+-0.,"):
        text = format(0, form)
    return text.replace("-", "−").replace(",", "\u2009")


def parse_number(text: str) -> float:
    """A number as people write it, with either minus sign. Raises ValueError."""
    return float(text.replace("−", "-"))
