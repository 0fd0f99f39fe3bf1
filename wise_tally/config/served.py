"""What `./tally serve` and `./tally demo` serve: the application with its book, templates and first figures ready.

It is loaded before the port answers and before workers are forked, so that all of them share one start and its memory.
"""

import gc
import logging
from collections.abc import Callable

from django.db import connections

from wise_tally.config.wsgi import application
from wise_tally.interfaces.starting import compile_pages, first_figures

log = logging.getLogger(__name__)


def prepare(step: Callable[[], None]) -> None:
    """Take a step of the start; where it fails a page says why in its own words, a server that does not start says nothing."""
    try:
        step()
    except Exception:
        log.exception("The start could not be prepared; the first pages take longer.")
    connections.close_all()
    gc.collect()


prepare(compile_pages)
# Code and templates stay as long as the process: the collector leaves them alone. A book goes with the first change.
gc.freeze()
prepare(first_figures)

__all__ = ["application", "prepare"]
