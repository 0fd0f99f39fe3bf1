"""Tests: the demo's settings with quick password hashing."""

from wise_tally.config.settings.demo import *  # noqa: F403

PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
WHITENOISE_AUTOREFRESH = True
