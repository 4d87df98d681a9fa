"""A real browser, where there is one; in CI it has to be there."""

import os
import shutil

import pytest


@pytest.fixture(scope="session")
def browser():
    where = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
    if where is None:
        if os.environ.get("CHAFF_BROWSER") == "required":
            pytest.fail("no Chromium on this machine, which CI has to have")
        pytest.skip("no Chromium on this machine: the page is not driven")
    sync = pytest.importorskip("playwright.sync_api")
    with sync.sync_playwright() as play:
        shown = play.chromium.launch(executable_path=where, args=["--no-sandbox", "--disable-gpu"])
        yield shown
        shown.close()
