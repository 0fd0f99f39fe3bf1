"""The styles of every page, in the order in which they hold: one file a part, served as one."""

from django.conf import settings

TOKENS = "web/tokens.css"
PARTS = (
    "vendor/bulma-1.0.4/bulma.reset.css",
    *(f"web/styles/{name}.css" for name in ("base", "head", "answer", "toolbar", "controls")),
    *(f"web/styles/{name}.css" for name in ("table", "picture", "charts", "panel", "pages", "brief")),
)
# All parts in one file, written where files are collected for serving.
TOGETHER = "web/styles/all.css"


def style_sheets() -> tuple[str, ...]:
    """What a page links to: the parts as they stand in the project, or where files were collected all in one."""
    return (TOKENS, *(PARTS if settings.WHITENOISE_USE_FINDERS else (TOGETHER,)))
