"""A workspace goes from one database to another, and what is exported from both is the same to the byte."""

from pathlib import Path

from tests.support.processes import manage, on_a_server, server  # noqa: F401

CONTRACT = Path(__file__).parents[1] / "data" / "contract" / "small"


def exported(place, folder):
    """Every file of a package but the stamp of when it was made."""
    manage(place, "export_package", str(folder))
    found = {path.name: path.read_bytes() for path in folder.iterdir()}
    assert len(found) > 5
    return {name: content for name, content in found.items() if name != "datapackage.json"}


def test_a_moved_workspace_exports_the_same_bytes(tmp_path):
    here, there = tmp_path / "here.sqlite3", tmp_path / "there.sqlite3"
    manage(here, "import_package", str(CONTRACT))
    was = here.read_bytes()
    assert "rows of" in manage(here, "move", str(there))
    assert here.read_bytes() == was, "the present one stays as it is"
    assert "present database" in manage(here, "move", str(here))
    assert exported(there, tmp_path / "b") == exported(here, tmp_path / "a")
    assert "holds a workspace already" in manage(here, "move", str(there))


@on_a_server
def test_it_goes_to_a_server_where_its_numbers_go_on_and_back(server, tmp_path):  # noqa: F811
    here, back = tmp_path / "here.sqlite3", tmp_path / "back.sqlite3"
    manage(here, "import_package", str(CONTRACT))
    first = exported(here, tmp_path / "a")
    manage(here, "move", server)
    assert exported(server, tmp_path / "b") == first
    # New rows come after those that were moved.
    assert "read" in manage(server, "import_package", str(CONTRACT)).lower()
    manage(server, "move", str(back))
    assert exported(back, tmp_path / "c") == first
