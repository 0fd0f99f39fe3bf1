"""What a server has ready before its port answers: templates, addresses, the book, and what is the same for every selection."""

from pathlib import Path

from django.template import TemplateDoesNotExist, TemplateSyntaxError
from django.template.loader import get_template
from django.template.utils import get_app_template_dirs
from django.urls import get_resolver

from wise_tally.book.store import books
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import Role
from wise_tally.pages.forecast.outlook_beside import OutlookBeside
from wise_tally.web.filter_line import scope_of
from wise_tally.web.findings.brief import brief_for
from wise_tally.web.visibility import Visibility


def warm() -> None:
    """Compile templates and addresses, read the book, and compute what the first page of the day shows."""
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
        line = scope_of(everybody, {})
        brief_for(line, everybody, Visibility(everybody, stored))
        # What past quarters teach is the same for every selection, and takes longest.
        OutlookBeside.of(line).weighing  # noqa: B018 - read for what it keeps
    books.finish_writing()
