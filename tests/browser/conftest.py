"""The real browser against a live server with the demo."""

import os
from itertools import count

import pytest
from django.conf import settings
from django.contrib.auth.models import User
from django.db import connection
from django.test import Client
from playwright.sync_api import expect, sync_playwright

from tests.conftest import open_book, put_demo
from wise_tally.web.request import writes

# Of each window the address bar opens two pages of its own to show below itself: more work than all that is tested.
# The last list alone counts, so what Playwright's own switches off stands in it, as far as it matters here.
OFF = (
    *("WebUIOmniboxPopup", "WebUIOmniboxAimPopup", "WebUIOmniboxFullPopup", "PreloadTopChromeWebUI"),
    *("AvoidUnnecessaryBeforeUnloadCheckSync", "DestroyProfileOnBrowserClose", "HttpsUpgrades", "PaintHolding"),
    *("OptimizationHints", "NetworkTimeServiceQuerying", "AimEnabled", "PreconnectToSearch"),
)
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    f"--disable-features={','.join(OFF)}",
]
# Playwright's loop runs in the test's thread; the ORM calls there are the test's own.
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"

# A machine that stands still for a moment is no fault of a page.
expect.set_options(timeout=20_000)


@pytest.fixture(scope="session")
def browsers():
    """Chromium by language; a date field is typed in the order of the browser's own language."""
    with sync_playwright() as playwright:
        opened = {}

        def speaking(language):
            if language not in opened:
                of_language = {"LANGUAGE": language.replace("-", "_"), "LANG": f"{language.replace('-', '_')}.UTF-8"}
                opened[language] = playwright.chromium.launch(
                    executable_path="/usr/bin/chromium",
                    args=[*FLAGS, f"--lang={language}"],
                    env=os.environ | of_language,
                )
            return opened[language]

        yield speaking
        for chromium in opened.values():
            chromium.close()


@pytest.fixture
def browser(browsers):
    return browsers("en-GB")


# What pages remember goes with the audit's last entry, so that no two tests may write one of the same number.
ENTRIES = count(1_000, 1_000)


@pytest.fixture
def site(transactional_db, live_server, monkeypatch):
    """The demo on a live server, whose writes wait for one another while the machine stands still."""
    monkeypatch.setattr(writes, "PATIENCE", 20.0)
    put_demo()
    if connection.vendor == "sqlite":
        open_book()
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM sqlite_sequence WHERE name = 'org_auditentry'")
            cursor.execute("INSERT INTO sqlite_sequence VALUES ('org_auditentry', %s)", [next(ENTRIES)])
    return live_server.url


def session_of(role):
    """The cookie of whom a click on the role's button would sign in."""
    client = Client()
    client.force_login(User.objects.filter(person__role=role, person__active_to=None).order_by("person__key").first())
    return client.cookies[settings.SESSION_COOKIE_NAME].value


@pytest.fixture
def visit(browsers, site):
    """Open a page as a person of a role; any error of a script or the policy fails the test."""
    errors = []
    contexts = []

    def open_page(role="manager", path="/forecast/", width=1280, height=800, scheme="light", language="en-GB"):
        context = browsers(language).new_context(
            viewport={"width": width, "height": height}, color_scheme=scheme, locale=language
        )
        contexts.append(context)
        page = context.new_page()
        page.on("pageerror", lambda error: errors.append(str(error)))
        page.on(
            "console", lambda m: errors.append(m.text) if m.type == "error" and "status of 4" not in m.text else None
        )
        context.add_cookies([{"name": settings.SESSION_COOKIE_NAME, "value": session_of(role), "url": site}])
        page.goto(site + path)
        return page

    yield open_page
    for context in contexts:
        context.close()
    assert not errors
