"""Guards: numbers reach HTML through filters, the core stands alone, the shipped files are what they say."""

import ast
import hashlib
import re
import subprocess
import sys
from pathlib import Path

from django.contrib.staticfiles.storage import staticfiles_storage
from django.core.management import call_command
from django.template.loader import get_template
from django.urls import URLResolver, get_resolver

from wise_tally.core.figures import REGISTER
from wise_tally.core.figures_of_deals import OF_ACCOUNT, OF_DEAL, OF_LIST
from wise_tally.core.figures_of_process import OF_PROCESS
from wise_tally.web.served_together import SCRIPTS, STYLES, TOGETHER, TOKENS, scripts, style_sheets

ROOT = Path(__file__).resolve().parents[2]
PRODUCT = ROOT / "wise_tally"
TEMPLATES = sorted(PRODUCT.rglob("templates/**/*.html"))
# Names that hold numbers in templates; each must pass through one of our filters.
NUMERIC = re.compile(
    r"\{\{\s*(?!bar\.|sorts\.|no_)[\w.]*(?:_minor|\bwon|\blost|quota|pace|gap|coverage|weighted|attainment|(?<!next_)step|from_start|reached|median|mean"
    r"|deals_won|deals_open|created|undecided|overstaying|_bp)\s*\}\}"
)


def test_no_raw_number_reaches_html():
    found = [(p.name, m.group()) for p in TEMPLATES for m in NUMERIC.finditer(p.read_text())]
    assert not found


def test_templates_carry_no_inline_script_or_style():
    """The policy allows none, so one would silently do nothing."""
    pattern = re.compile(r"<script(?![^>]*\bsrc=)|\sstyle=|\son(?!ly=)\w+=")
    assert not [p.name for p in TEMPLATES if pattern.search(p.read_text())]


def test_no_day_is_taken_from_a_moment_without_its_zone():
    """The day of a moment is the workspace's: `local_day` says it; invented worlds of demo and bench may do without."""
    pattern = re.compile(r"\bnow(\(\))?\.date\(\)|_at\.date\(\)|date\.today\(")
    sources = [p for p in PRODUCT.rglob("*.py") if not {"demo", "bench"} & set(p.parts)]
    assert not [p.name for p in sources if pattern.search(p.read_text())]


def test_colours_stand_in_one_file():
    sheets = [p for p in (PRODUCT / "web" / "static" / "web").glob("*.css") if p.name != "tokens.css"]
    assert not [p.name for p in sheets if re.search(r"#[0-9a-fA-F]{3,8}\b(?!-)(?=[;\s])|rgb\(", p.read_text())]


def test_the_core_runs_without_django():
    """Imported in an interpreter in which Django cannot be."""
    modules = ", ".join(f"wise_tally.core.{p.stem}" for p in (PRODUCT / "core").glob("*.py") if p.stem != "__init__")
    code = f"import sys; sys.modules['django'] = None; import {modules}"
    assert subprocess.run([sys.executable, "-c", code], cwd=ROOT, check=False).returncode == 0


def test_tests_of_the_core_need_no_database():
    """Nor do the books and oracles that they use."""
    used = ["answers", "naive", "plain_book", "plain_plans", "random_world", "small_books"]
    for path in [
        *(ROOT / "tests" / "core").glob("*.py"),
        *(ROOT / "tests" / "support" / f"{name}.py" for name in used),
    ]:
        named = re.findall(r"^(?:from|import) (\S+)", path.read_text(), re.M)
        assert not [
            n for n in named if n.startswith(("django", "wise_tally")) and not n.startswith("wise_tally.core")
        ], path


def test_rows_become_core_records_only_in_their_room_and_views_do_not_save():
    for path in PRODUCT.rglob("*.py"):
        text = path.read_text()
        if path.parts[-2] not in ("book", "core", "bench"):
            made = {
                n.func.id for n in ast.walk(ast.parse(text)) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)
            }
            assert not made & {"Revisions", "Credits", "ReferenceData", "Book", "BookAsOf"}, path
        if path.name == "views.py":
            assert ".save(" not in text, path
        functions = [n for n in ast.parse(text).body if isinstance(n, ast.FunctionDef) and n.args.args]
        views = [n for n in functions if "@require_" in "".join(f"@{ast.unparse(one)}" for one in n.decorator_list)]
        assert all(n.end_lineno - n.lineno < 20 for n in views), path
        assert all(n.end_lineno - n.lineno < 40 for n in functions if n.args.args[0].arg == "request"), path


# Whose rows a viewer may see is decided in `web/visibility.py`; pages have no other way to them.
OWNED = {"Account", "Contact", "Lead", "Deal", "Activity", "Note"}


def test_pages_reach_what_belongs_to_somebody_only_through_what_the_viewer_may_see():
    found = []
    # Imports are the administrators', who see all.
    for path in (path for path in (PRODUCT / "pages").rglob("*.py") if "imports" not in path.parts):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Attribute) and node.attr in ("objects", "_default_manager", "_base_manager"):
                found += [path] if isinstance(node.value, ast.Name) and node.value.id in OWNED else []
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "get_object_or_404":
                found += [path] if getattr(node.args[0], "id", "") in OWNED else []
    assert not found


# How somebody likes a page drawn, that a form was sent, the entries themselves, and what a restore ends, which is written down itself.
NO_ENTRY = {"set_preference", "audit", "end_every", "another_database", "ensure_categories"}
NO_ENTRY |= {"begin_form", "end_form", "forget_forms"}
# Parts of actions: whoever calls them writes.
PARTS = {"_contact_of", "_put", "_raise", "_remove", "_restore_replaced", "_write_contacts", "_write_details", "_write_next",
         "_write_payments", "keep_answers", "keep_details", "keep_own", "move_all", "restore_answers",
         "send_notices", "write_details"}  # fmt: skip
COMMON = {
    "create",
    "delete",
    "update",
    "filter",
    "exists",
    "append",
    "add",
    "all",
    "change",
    "count",
    "first",
    "get",
    "make",
    "new",
    "page",
    "read",
    "run",
    "save",
    "set",
    "start",
    "text",
}
WRITES = {"save", "create", "bulk_create", "update_or_create", "get_or_create", "delete"}


def test_whatever_writes_is_written_down():
    """Each function that writes rows calls `audit`, or another that does; the data of the demo and of packages apart."""
    calls, writing = {}, set()
    for path in PRODUCT.rglob("*.py"):
        if {"migrations", "demo", "bench", "core", "book"} & set(path.parts) or path.name in (
            "taking.py",
            "backup.py",
            "workspace_file.py",
            "bench.py",
        ):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef):
                made = [n.func for n in ast.walk(node) if isinstance(n, ast.Call)]
                calls.setdefault(node.name, set()).update(getattr(f, "id", getattr(f, "attr", "")) for f in made)
                managed = [f for f in made if isinstance(f, ast.Attribute) and f.attr in WRITES]
                writing |= (
                    {node.name}
                    if any("objects" in ast.unparse(f) or f.attr in ("save", "delete") for f in managed)
                    else set()
                )
    audited = {"audit"}
    # Names that many things have say nothing of what is called.
    while more := {name for name, called in calls.items() if called & audited} - audited - COMMON:
        audited |= more
    assert len(writing) > 30
    writing |= {name for name, called in calls.items() if called & PARTS - {"_raise"}}
    assert writing - audited - NO_ENTRY - PARTS - COMMON == set()


# Words that fit whatever a name holds, so that they tell nobody what it is.
SAY_NOTHING = {"found", "asked", "kept", "said", "called", "fell", "here", "told", "seen"}


def test_files_and_functions_stay_small_and_names_say_what_they_hold():
    for path in [*PRODUCT.rglob("*.py"), *TEMPLATES]:
        if "migrations" in path.parts:
            continue
        text = path.read_text()
        assert text.count("\n") <= (200 if path.suffix == ".html" else 400), path
        if path.suffix == ".py":
            nodes = list(ast.walk(ast.parse(text)))
            assert all(n.end_lineno - n.lineno <= 60 for n in nodes if isinstance(n, ast.FunctionDef)), path
            stored = {n.id.lower() for n in nodes if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)}
            assert not SAY_NOTHING & (stored | {n.arg for n in nodes if isinstance(n, ast.arg)}), path


def test_the_page_of_measures_is_what_the_register_says():
    """Renewed by tools/measures_page.py."""
    sys.path.insert(0, str(ROOT / "tools"))
    from measures_page import PAGE, renewed

    assert PAGE.read_text(encoding="utf-8") == renewed(PAGE.read_text(encoding="utf-8"))


def test_every_definition_begins_in_everyday_words():
    """One sentence of at most twenty words; formula and method come after it."""
    records = [one for of in (REGISTER, OF_PROCESS, OF_LIST, OF_DEAL, OF_ACCOUNT) for one in of.values()]
    assert len(records) > 80
    for figure in records:
        first = re.split(r"[.;] ", figure.definition)[0]
        assert len(first.split()) <= 20, (figure.key, first)
        assert not re.search(r"Kaplan|Wilson|cohort|quantile|censored|\bstays?\b", first), (figure.key, first)


def test_shipped_front_end_files_match_their_checksums():
    vendor = PRODUCT / "web" / "static" / "vendor"
    for line in (vendor / "SHA256SUMS").read_text().splitlines():
        digest, name = line.split()
        assert hashlib.sha256((vendor / name).read_bytes()).hexdigest() == digest, name
        assert list((vendor / name).parent.glob("LICENSE*")), name


def test_templates_are_narrow_and_short_enough_to_read():
    for path in PRODUCT.rglob("*.html"):
        lines = path.read_text().splitlines()
        assert len(lines) <= 150, path
        assert not [line for line in lines if len(line) > 140], path
        assert not [line for line in lines if re.search(r"\{%(?! comment)[^%]*$", line)], (
            f"{path}: a tag that is never closed is text"
        )


def names_of_addresses(patterns, prefix=""):
    for one in patterns:
        if isinstance(one, URLResolver):
            yield from names_of_addresses(one.url_patterns, f"{prefix}{one.namespace}:" if one.namespace else prefix)
        elif one.name:
            yield prefix + one.name


def test_every_address_that_is_named_exists():
    """In templates and in the program: a name that is none fails only where the page that names it is shown."""
    known = set(names_of_addresses(get_resolver().url_patterns))
    places = {name.partition(":")[0] for name in known if ":" in name}
    named = re.compile(rf"""["']((?:{"|".join(places)}):[a-z][a-z-]*)["']|\{{% url ["']([a-z-]+)["']""")
    wrong = [
        (path.name, first or second)
        for path in sorted([*TEMPLATES, *PRODUCT.rglob("*.py")])
        for first, second in named.findall(path.read_text())
        if (first or second) not in known
    ]
    assert not wrong


# Deletions that offer an undo at the foot of the page, and the page that shows the parts.
UNDONE = {"journal.html", "journal_entry.html", "tallies.html", "arrange.html", "basics.html"}


def test_what_is_deleted_can_be_undone_or_is_asked_about():
    buttons = [
        (path.name, found)
        for path in TEMPLATES
        for found in re.findall(r"<button[^>]*>\s*(?:Delete|Discard scenario)[^<]*</button>", path.read_text())
    ]
    assert {name for name, button in buttons if "data-sure=" not in button} == UNDONE
    assert len(buttons) > len(UNDONE) + 5


def test_every_template_can_be_read():
    """Its tags, filters and parts exist, also in what is hardly ever shown."""
    for path in TEMPLATES:
        get_template(str(path).partition("/templates/")[2])


def test_a_page_carries_little(tmp_path, settings):
    """Scripts and styles of every page together under 61 kB as they are served, fonts apart; all of them are collected."""
    settings.STATIC_ROOT, settings.WHITENOISE_USE_FINDERS = str(tmp_path), False
    call_command("collectstatic", "--noinput", "--verbosity", "0")
    served = (*scripts(), *style_sheets())
    assert set(served) == {*TOGETHER, TOKENS}
    alone = {f"web/{path.name}" for path in (PRODUCT / "web/static/web").glob("*.js")} - {*TOGETHER, *TOGETHER[SCRIPTS]}
    sizes = {name: (tmp_path / f"{name}.gz").stat().st_size for name in {*alone, *served}}
    assert sum(sizes[name] for name in served) + max(sizes[name] for name in alone) < 61_000
    for name in (STYLES, "web/charts.js"):
        text = (tmp_path / name).read_text()
        assert "/* " not in text, "comments are for readers"
        assert "\n  " not in text
    # Kept for good by a browser, since what changed has another name.
    address = staticfiles_storage.url(STYLES)
    assert re.fullmatch(r"/static/web/styles/all\.[0-9a-f]{12}\.css", address)
    assert (tmp_path / address.removeprefix("/static/")).read_text() == (tmp_path / STYLES).read_text()
    settings.WHITENOISE_USE_FINDERS = True
    assert staticfiles_storage.url(STYLES) == f"/static/{STYLES}"


def test_what_is_kept_is_text_pictures_and_fonts():
    """A database or a file of columns that a run left behind is none of them."""
    names = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    paths = [ROOT / name for name in names.split("\0") if name and Path(name).suffix not in {".png", ".woff2"}]
    assert not [path.name for path in paths if path.is_file() and b"\0" in path.read_bytes()]
