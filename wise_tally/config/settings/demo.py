"""The demo: one-click sign-in, plain HTTP on this machine."""

from wise_tally.config.settings.base import *  # noqa: F403

DEMO = True
