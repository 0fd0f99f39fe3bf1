"""Errors the core raises; each says what was wrong and what is accepted."""


class CoreError(ValueError):
    """Base of all errors raised by the core."""


class UnknownPeriod(CoreError):
    """A period text that names no period."""


class UnknownBreakdown(CoreError):
    """A breakdown that names no attribute of deals."""


class UnknownFigure(CoreError):
    """A name of no figure."""


class TreeLoop(CoreError):
    """A tree in which a node stands below itself."""


class AmountOverflow(CoreError):
    """A sum of money beyond what 64-bit integers hold."""
