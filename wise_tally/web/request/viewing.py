"""What the middleware adds to a request."""

from typing import TYPE_CHECKING

from django.http import HttpRequest

from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import Person

if TYPE_CHECKING:
    from wise_tally.web.filter_line import FilterLine
    from wise_tally.web.visibility import Visibility


class PageRequest(HttpRequest):
    """A request of somebody who is signed in, or of a token's person."""

    viewer: Viewer
    # Whose sign-in it is; requests with a token have none.
    person: Person
    token: str
    # What the page chose and what its viewer may see, each read once a request.
    filter_line: "FilterLine"
    visible: "Visibility"
