"""The wheel holds all that a page needs: built, installed elsewhere, it migrates a database and serves its first page."""

import os
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
SERVE = """
import django
django.setup()
from django.test import Client
import wise_tally
answer = Client().get("/sign-in/", HTTP_HOST="localhost", secure=True)
assert answer.status_code == 200, answer.status_code
assert b"Wise Tally" in answer.content
print(wise_tally.__file__)
"""


def test_a_wheel_installed_elsewhere_serves_a_page(tmp_path):
    # Building writes beside the sources, so it is done on a copy.
    source = tmp_path / "source"
    for folder in ("wise_tally", "requirements"):
        shutil.copytree(ROOT / folder, source / folder, ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(ROOT / "pyproject.toml", source)
    build = [
        sys.executable,
        "-m",
        "pip",
        "wheel",
        "--quiet",
        "--no-deps",
        "--no-build-isolation",
        "-w",
        str(tmp_path),
        str(source),
    ]
    subprocess.run(build, check=True, cwd=tmp_path, env={**os.environ, "PYTHONWARNINGS": "ignore"})
    wheel = next(tmp_path.glob("wise_tally-*.whl"))
    there = tmp_path / "site"
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(there)
        needs = packed.read(next(n for n in packed.namelist() if n.endswith("METADATA"))).decode()
    assert needs.count("Requires-Dist:") == len((ROOT / "requirements" / "base.txt").read_text().split())
    # Dependencies are those of the tests; the application itself comes from the wheel alone.
    env = {**os.environ, "PYTHONPATH": str(there), "DJANGO_SETTINGS_MODULE": "wise_tally.config.settings.production"}
    env |= {"WISE_TALLY_DATABASE": str(tmp_path / "data" / "w.sqlite3"), "PYTHONWARNINGS": "ignore"}
    for command in (
        ["-m", "wise_tally", "migrate", "--verbosity", "0"],
        ["-m", "wise_tally", "collectstatic", "--noinput", "-v", "0"],
    ):
        subprocess.run([sys.executable, *command], check=True, cwd=tmp_path, env=env)
    served = subprocess.run(
        [sys.executable, "-c", SERVE], check=True, cwd=tmp_path, env=env, capture_output=True, text=True
    )
    assert served.stdout.strip().startswith(str(there))
