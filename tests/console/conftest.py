"""Chromium from Debian's packages, and a demo of its own for tests that change things."""

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.conftest import Demo, copied_demo, stop_demo

expect.set_options(timeout=15_000)  # a machine that is busy with other servers too

CHROMIUM = "/usr/bin/chromium"
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


@pytest.fixture
def desk(browser: Browser, own: Demo) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    made = context.new_page()
    made.goto(own.url)
    made.get_by_label("Name").fill("imke")
    made.get_by_label("Password").fill(own.password("imke"))
    made.keyboard.press("Enter")
    expect(made.get_by_role("heading", level=1)).to_contain_text("in live")
    yield made
    context.close()
