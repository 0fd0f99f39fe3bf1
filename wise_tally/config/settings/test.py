"""Tests: the demo's settings with quick password hashing."""

import atexit
import os
import shutil
import tempfile
from pathlib import Path

from wise_tally.config.settings.demo import *  # noqa: F403

PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
BOOK_FILE = False
SESSION_FILE_PATH = Path(tempfile.mkdtemp())
atexit.register(shutil.rmtree, SESSION_FILE_PATH, ignore_errors=True)
WHITENOISE_AUTOREFRESH = True

# Tests run on a file, as the application does: locks between two writers are real only there.
if "WISE_TALLY_DATABASE_URL" in os.environ:
    DATABASES["default"]["TEST"] = {"NAME": "test", "TEMPLATE": "template0"}  # noqa: F405
else:
    DATABASES["default"]["TEST"] = {"NAME": str(DATABASE_FILE.parent / "test.sqlite3")}  # noqa: F405
