"""What `./tally serve` and `./tally demo` serve: the application with its book, templates and first figures ready.

It is loaded before the port answers and before workers are forked, so that all of them share one start and its memory.
"""

import gc
import logging
from pathlib import Path

from django.db import connections
from django.template import TemplateDoesNotExist, TemplateSyntaxError
from django.template.loader import get_template
from django.template.utils import get_app_template_dirs
from django.urls import get_resolver

from wise_tally.config.wsgi import application

log = logging.getLogger(__name__)


def warm() -> None:
    """Compile templates and addresses, read the book, and compute what the first page of the day shows."""
    from wise_tally.book.store import books
    from wise_tally.domain.org.access import Viewer
    from wise_tally.domain.org.models import Role
    from wise_tally.web.filter_line import scope_of
    from wise_tally.web.findings.brief import brief_for
    from wise_tally.web.visibility import Visibility

    get_resolver().reverse_dict  # noqa: B018 - read for what it keeps
    for folder in map(Path, get_app_template_dirs("templates")):
        for path in folder.rglob("*.html"):
            try:
                get_template(str(path.relative_to(folder)))
            except (TemplateDoesNotExist, TemplateSyntaxError):
                continue
    everybody = Viewer("", "the start", Role.ADMIN, ())
    stored = books.stored()
    if len(stored.deal_numbers):
        brief_for(scope_of(everybody, {}), everybody, Visibility(everybody, stored))
    books.finish_writing()


try:
    warm()
except Exception:
    # A page then says what is wrong in its own words; a server that does not start says nothing.
    log.exception("The start could not be prepared; the first pages take longer.")
connections.close_all()
gc.collect()
gc.freeze()

__all__ = ["application"]
