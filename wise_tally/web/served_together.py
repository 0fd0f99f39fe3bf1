"""The styles and scripts of every page, in the order in which they hold: a file a part in the project, served as one."""

from django.conf import settings

TOKENS = "web/tokens.css"
STYLES, SCRIPTS = "web/styles/all.css", "web/all.js"
# What is served as one, with its parts; it is written where files are collected for serving.
TOGETHER = {
    STYLES: (
        "vendor/bulma-1.0.4/bulma.reset.css",
        *(f"web/styles/{name}.css" for name in ("base", "head", "answer", "toolbar", "controls")),
        *(f"web/styles/{name}.css" for name in ("table", "picture", "charts", "panel", "pages", "brief")),
    ),
    SCRIPTS: (
        *(f"web/{name}.js" for name in ("sort", "keys", "focus", "leaving")),
        "vendor/d3-shape-3.2.0/d3-shape.min.js",
        *(f"web/{name}.js" for name in ("charts", "suggest", "narrow", "rows", "read_as")),
        "vendor/idiomorph-0.8.0/idiomorph.min.js",
        "web/in_place.js",
        "vendor/alpine-ajax-0.12.7/cdn.min.js",
        # It starts at once, with everything registered before it.
        "vendor/alpine-csp-3.17.4/cdn.min.js",
    ),
}


def _served(name: str) -> tuple[str, ...]:
    """The parts as they stand in the project, or where files were collected all in one."""
    return TOGETHER[name] if settings.WHITENOISE_USE_FINDERS else (name,)


def style_sheets() -> tuple[str, ...]:
    """What a page links to."""
    return (TOKENS, *_served(STYLES))


def scripts() -> tuple[str, ...]:
    """What a page runs, after those that only some pages have."""
    return _served(SCRIPTS)
