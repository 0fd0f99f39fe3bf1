"""Production: everything over TLS, unless the operator serves plain HTTP on a trusted network."""

import os

from wise_tally.config.settings.base import *  # noqa: F403
from wise_tally.domain.number_settings import number

SECURE = os.environ.get("WISE_TALLY_PLAIN_HTTP") != "1"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE
if SECURE:
    # A browser takes such cookies from this very host alone.
    SESSION_COOKIE_NAME, CSRF_COOKIE_NAME = "__Host-session", "__Host-csrf"
# Browsers come back over TLS only, for a year; 0 ends that, as before moving to another address.
SECURE_HSTS_SECONDS = number("WISE_TALLY_HSTS_SECONDS", 31_536_000, int) if SECURE else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = SECURE_HSTS_SECONDS > 0
SECURE_SSL_REDIRECT = SECURE and os.environ.get("WISE_TALLY_TLS_REDIRECT") != "0"
# The header in which a proxy that ends TLS says so, such as X-Forwarded-Proto; it must set it on every request.
if header := os.environ.get("WISE_TALLY_TLS_HEADER"):
    SECURE_PROXY_SSL_HEADER = (f"HTTP_{header.upper().replace('-', '_')}", "https")
