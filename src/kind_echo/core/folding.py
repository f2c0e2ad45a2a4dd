"""Where a frequency lands once it is sampled, and right answers by chance: arithmetic that needs no file."""

from kind_echo.core.errors import BadParameter


def fold(frequency: float, rate: float) -> float:
    """The frequency, in Hz, at which `frequency` appears at a rate: |((f + R/2) mod R) − R/2|.

    Raises:
        BadParameter: the rate is not positive or the frequency negative.
    Source: the sampling theorem; C. E. Shannon, Communication in the presence of noise, Proc. IRE 37 (1949).
    """
    if not rate > 0:
        raise BadParameter("rate", rate, "above 0 Hz")
    if not frequency >= 0:
        raise BadParameter("frequency", frequency, "0 Hz or more")
    return abs((frequency + rate / 2) % rate - rate / 2)
