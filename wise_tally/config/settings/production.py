"""Production: secure cookies unless the operator serves plain HTTP on a trusted network."""

import os

from wise_tally.config.settings.base import *  # noqa: F403

SECURE = os.environ.get("WISE_TALLY_PLAIN_HTTP") != "1"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE
