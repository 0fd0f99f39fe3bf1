"""Scripts and styles as they are served: without comments and spaces, compressed, under names that tell their content.

A browser keeps such a file for good and asks for another one as soon as it changed.
"""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.conf import settings
from rcssmin import cssmin
from rjsmin import jsmin
from whitenoise.storage import CompressedManifestStaticFilesStorage

from wise_tally.web.served_together import TOGETHER

# Those of the project; what is shipped from elsewhere is small already.
OWN = "web/"
SMALLER = {".js": jsmin, ".css": cssmin}
# A script may end without what the next one needs to begin.
BETWEEN = {".js": ";\n", ".css": ""}


def smaller(name: str, text: str) -> str:
    """A file of the project without what only its readers need; any other as it is."""
    ending = name[name.rfind(".") :]
    return str(SMALLER[ending](text)) if name.startswith(OWN) and ending in SMALLER else text


class SmallFiles(CompressedManifestStaticFilesStorage):
    """Static files collected for serving."""

    def post_process(self, paths: dict[str, Any], dry_run: bool = False, **options: Any) -> Iterator[Any]:
        """Make the project's own files smaller, then compress all."""
        if not dry_run:
            for name in paths:
                if name.startswith(OWN) and name.endswith(tuple(SMALLER)):
                    file = Path(self.path(name))
                    file.write_text(smaller(name, file.read_text(encoding="utf-8")), encoding="utf-8")
            for name, parts in TOGETHER.items():
                texts = (Path(self.path(part)).read_text(encoding="utf-8") for part in parts)
                Path(self.path(name)).write_text(BETWEEN[name[name.rfind(".") :]].join(texts), encoding="utf-8")
            paths = {name: (self, name) for name in (*paths, *TOGETHER)}
        yield from super().post_process(paths, dry_run, **options)

    def url(self, name: str | None, force: bool = False) -> str:
        """The address that a page links to; where nothing was collected, that of the file as it stands in the project."""
        return f"{settings.STATIC_URL}{name}" if settings.WHITENOISE_USE_FINDERS else str(super().url(name, force))
