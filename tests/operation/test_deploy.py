"""What stands in `deploy/` and in the operator's document is what the program knows."""

import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent.parent
CONTAINER = ROOT / "deploy" / "Containerfile"
HEALTH = (
    """python3 -c 'import urllib.request as r; print(r.urlopen("http://127.0.0.1:8079/health/", timeout=4).status)'"""
)
DOCUMENT = (ROOT / "docs" / "operating.md").read_text()
NAME = re.compile(r"WISE_TALLY_[A-Z_]+[A-Z]")
# Set by the program itself, for its own processes.
INNER = {"WISE_TALLY_COLLECTED", "WISE_TALLY_OLD_WORKERS", "WISE_TALLY_BENCH_PACKAGE"}


def test_every_setting_is_in_the_table_and_none_that_is_not_there():
    sources = [ROOT / "tally", *(ROOT / "wise_tally").rglob("*.py")]
    known = {name for path in sources for name in NAME.findall(path.read_text())} - INNER
    table = {name for line in DOCUMENT.splitlines() if line.startswith("| `") for name in NAME.findall(line)}
    assert known - table == set(), "not told"
    assert table - known == set(), "not known"
    assert "EMAIL_URL" in DOCUMENT


def test_what_is_deployed_agrees_with_the_program():
    unit = ROOT / "deploy" / "wise-tally.service"
    assert {name for path in (unit, CONTAINER) for name in NAME.findall(path.read_text())} <= set(
        NAME.findall(DOCUMENT)
    )
    assert "/health/" in CONTAINER.read_text()
    assert "HUP" in unit.read_text()
    for proxy in ("nginx.conf", "Caddyfile"):
        text = (ROOT / "deploy" / proxy).read_text()
        assert all(
            word in text for word in ("127.0.0.1:8000", "/metrics", "/ready/", "X-Forwarded-Proto", "X-Forwarded-For")
        )
    files = {path.name for path in (ROOT / "deploy").iterdir()}
    assert {name for name in files if f"deploy/{name}" not in DOCUMENT} == set()


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="no systemd on this machine")
def test_the_unit_is_one_that_systemd_takes(tmp_path):
    unit = (ROOT / "deploy" / "wise-tally.service").read_text().replace("/opt/wise-tally/tally", str(ROOT / "tally"))
    (tmp_path / "wise-tally.service").write_text(unit)
    command = ["systemd-analyze", "verify", "--man=no", str(tmp_path / "wise-tally.service")]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout + done.stderr) == (0, "")


@pytest.mark.skipif(not shutil.which("buildah"), reason="no builder of containers on this machine")
def test_the_container_is_built_and_serves_without_root(tmp_path):
    environment = {"BUILDAH_ISOLATION": "chroot", "STORAGE_DRIVER": "vfs", **os.environ}

    def run(*words, check=False, **given):
        return subprocess.run(words, check=check, env=environment, capture_output=True, text=True, **given)

    base = next(line.split()[1] for line in CONTAINER.read_text().splitlines() if line.startswith("FROM"))
    if run("buildah", "pull", "--policy", "missing", base).returncode:
        pytest.skip("its base is out of reach")
    files = run("git", "ls-files", "-co", "--exclude-standard", "-z", cwd=ROOT, check=True).stdout
    run("xargs", "-0", "cp", "--parents", "-t", str(tmp_path), cwd=ROOT, input=files, check=True)
    built = run("buildah", "build", "--format", "docker", "-q", "-f", str(CONTAINER), str(tmp_path))
    assert built.returncode == 0, built.stderr[-2_000:]
    container = run("buildah", "from", built.stdout.split()[-1], check=True).stdout.strip()
    try:
        script = (
            f"export WISE_TALLY_PLAIN_HTTP=1 WISE_TALLY_PORT=8079; ./tally serve & sleep 20; id -u; {HEALTH}; kill $!"
        )
        served = run("buildah", "run", container, "sh", "-c", script)
        assert served.stdout.split()[-2:] == ["10001", "200"], served.stdout + served.stderr
    finally:
        run("buildah", "rm", container)
        run("buildah", "rmi", built.stdout.split()[-1])
