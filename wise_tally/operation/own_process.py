"""Another database brought to this version, in a process of its own: some migrations write to the database that settings name."""

import os
import subprocess
import sys

from django.conf import settings


def migrate_other(**environment: str) -> str:
    """Migrate the database that these variables name; what went wrong in a line, empty where nothing did."""
    command = [sys.executable, "-m", "wise_tally", "migrate", "--verbosity", "0", "--no-input"]
    done = subprocess.run(
        command, env={**os.environ, **environment}, cwd=settings.ROOT, capture_output=True, text=True, check=False
    )
    last = done.stderr.strip().splitlines()[-1:] or ["without saying why"]
    return last[0][:200] if done.returncode else ""
