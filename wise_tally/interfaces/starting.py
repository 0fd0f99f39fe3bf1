"""What a server has ready before its port answers: templates, addresses, the book, and what is the same for every selection."""

import gc
from pathlib import Path
from typing import cast

from django.contrib.auth.models import AnonymousUser
from django.contrib.sessions.backends.signed_cookies import SessionStore
from django.http import HttpResponse
from django.template import TemplateDoesNotExist, TemplateSyntaxError
from django.template.loader import get_template
from django.template.utils import get_app_template_dirs
from django.test import RequestFactory
from django.urls import get_resolver, resolve, reverse

from wise_tally.book.store import books
from wise_tally.book.superseded import give_back_freed
from wise_tally.domain.formats import use_workspace
from wise_tally.domain.org.access import Viewer, viewer_of
from wise_tally.domain.org.models import Person, Role, Workspace
from wise_tally.pages.forecast.outlook_columns import OutlookColumns
from wise_tally.web.filter_line import scope_of
from wise_tally.web.request.viewing import PageRequest

PAGES = ("brief:page", "forecast:page", "deals:page", "conversion:page", "attainment:page", "team:page")


def compile_pages() -> None:
    """Compile templates and addresses, which stay the same as long as the process."""
    get_resolver().reverse_dict  # noqa: B018 - read for what it keeps
    for folder in map(Path, get_app_template_dirs("templates")):
        for path in folder.rglob("*.html"):
            try:
                get_template(str(path.relative_to(folder)))
            except (TemplateDoesNotExist, TemplateSyntaxError):
                continue


def first_figures() -> None:
    """Read the book, and compute what the first page of the day shows; nothing where a book is there already."""
    if books.number_in_memory():
        return
    stored = books.stored()
    somebody = Person.objects.filter(role=Role.ADMIN, active_to=None).first()
    if somebody and len(stored.deal_numbers):
        workspace, viewer = Workspace.current(), viewer_of(somebody)
        use_workspace(workspace.currency, workspace.time_zone, workspace.decimal_sign, workspace.day_order)
        for name in PAGES:
            _look_at(name, somebody, viewer)
        # What past quarters teach is the same for every selection, and takes longest.
        OutlookColumns.of(scope_of(viewer, {})).weighing  # noqa: B018 - read for what it keeps
    books.finish_writing()


def let_go_of_book() -> None:
    """Free the book and what was computed from it, as in a server once its workers have it."""
    books.forget()
    gc.collect()
    give_back_freed()


def _look_at(name: str, person: Person, viewer: Viewer) -> HttpResponse:
    """Answer a page to nobody: what it reads, compiles and computes is then there for everybody."""
    address = reverse(name)
    request = cast(PageRequest, RequestFactory().get(address))
    request.resolver_match = resolve(address)
    request.user, request.session = AnonymousUser(), SessionStore()
    request.person, request.viewer = person, viewer
    view, given, named = request.resolver_match
    return cast(HttpResponse, view(request, *given, **named))
