"""Templates without the indentation they are written with: it is a fifth of the HTML of a long page, and says nothing."""

import re

from django.template import Origin
from django.template.loaders import app_directories

INDENTATION = re.compile(r"\n[ \t]+")


class Loader(app_directories.Loader):
    """Templates of the apps; lines of HTML begin at their first sign, so that line numbers of errors still hold."""

    def get_contents(self, origin: Origin) -> str:
        """The source as it is compiled."""
        source = super().get_contents(origin)
        return INDENTATION.sub("\n", source) if origin.name.endswith(".html") else source
