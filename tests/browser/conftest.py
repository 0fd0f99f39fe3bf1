"""The real browser against a live server with the demo."""

import os
from urllib.parse import urlencode

import pytest
from playwright.sync_api import expect, sync_playwright

from tests.conftest import put_demo

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


@pytest.fixture
def site(transactional_db, live_server):
    """The demo on a live server."""
    put_demo()
    return live_server.url


@pytest.fixture
def visit(browsers, site):
    """Open a page signed in by one click; any error of a script or the policy fails the test."""
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
        page.goto(f"{site}/sign-in/?{urlencode({'next': path})}")
        page.click(f"button[value={role}]")
        page.wait_for_load_state()
        return page

    yield open_page
    for context in contexts:
        context.close()
    assert not errors
