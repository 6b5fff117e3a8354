"""Chromium from Debian's packages, and a demo of its own for tests that change things."""

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.conftest import Demo, copied_demo, stop_demo

MOST = 90_000  # milliseconds: only what never comes waits so long, and a machine may be busy with much else
expect.set_options(timeout=MOST)

CHROMIUM = "/usr/bin/chromium-headless-shell"
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync"]


@pytest.fixture(scope="module")  # not longer: while it runs, the thread has an event loop that other tests could not have
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        running = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield running
        running.close()


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    """A demo that these tests change."""
    running = copied_demo(tmp_path_factory, "console")
    yield running
    stop_demo(running)


def sign_in(context: BrowserContext, demo: Demo) -> None:
    """As the page for it does; that one has a test of its own."""
    context.request.post(f"{demo.url}/api/v1/session", data={"name": "imke", "password": demo.password("imke")}, fail_on_status_code=True)


def to_overview(page: Page, demo: Demo) -> None:
    page.goto(demo.url)
    expect(page.get_by_role("heading", level=1)).to_contain_text("in live")  # only then it listens to keys


@pytest.fixture
def desk(browser: Browser, own: Demo) -> Iterator[Page]:
    """A page of a signed-in integrator that shows nothing yet."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(MOST)
    sign_in(context, own)
    yield context.new_page()
    context.close()
