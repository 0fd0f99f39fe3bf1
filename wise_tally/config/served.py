"""What `./tally serve` and `./tally demo` serve: the application with its book, templates and first figures ready.

It is loaded before the port answers and before workers are forked, so that all of them share one start and its memory.
"""

import gc
import logging

from django.db import connections

from wise_tally.config.wsgi import application

log = logging.getLogger(__name__)


try:
    from wise_tally.interfaces.starting import warm

    warm()
except Exception:
    # A page then says what is wrong in its own words; a server that does not start says nothing.
    log.exception("The start could not be prepared; the first pages take longer.")
connections.close_all()
gc.collect()
gc.freeze()

__all__ = ["application"]
