"""What was freed goes back to the machine: the C library would keep it for the process, between what is still in use."""

import ctypes

_trim = getattr(ctypes.CDLL(None), "malloc_trim", None)


def give_back_freed() -> None:
    """Return freed pages of every size to the machine, where the C library can; takes a few milliseconds."""
    if _trim is not None:
        _trim(0)
