"""What every test in a real browser needs: Chromium, a served application, a shot with a plate,
what screen readers would stumble over."""

import os
import shutil
from contextlib import contextmanager

from axe_core_python.sync_playwright import Axe
from django.conf import settings
from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from playwright.sync_api import sync_playwright

from tests.patience import MINUTES
from web.shows.models import Shot

# `SLOW_PAGES=500 make test` lets scripts take every answer 500 ms after it arrived, as on a very
# busy machine: a test that presses the next key before the page could know the answer then fails
# every time, not once in a hundred.
SLOW_PAGES = int(os.environ.get("SLOW_PAGES", "0"))
SLOWLY = """
const pause = () => new Promise(done => setTimeout(done, MS));
const ask = window.fetch;
window.fetch = async (...args) => {
  const answer = await ask(...args);
  await pause();
  return answer;
};
const onload = Object.getOwnPropertyDescriptor(XMLHttpRequestEventTarget.prototype, "onload");
Object.defineProperty(XMLHttpRequest.prototype, "onload", {
  get: onload.get,
  set(handler) {
    onload.set.call(this, handler && (event => setTimeout(() => handler.call(this, event), MS)));
  },
});
"""


class Browsing(StaticLiveServerTestCase):
    """A page of 1280 × 800; errors of its scripts and requests to other hosts are collected."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.playwright = sync_playwright().start()
        cls.browser = cls.playwright.chromium.launch(
            executable_path="/usr/bin/chromium",
            args=[
                "--no-sandbox",
                "--disable-background-networking",
                "--use-gl=swiftshader",
                "--enable-unsafe-swiftshader",
            ],
        )

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.playwright.stop()
        super().tearDownClass()
        for name in ("plates", "renders"):
            shutil.rmtree(settings.DATA / name, ignore_errors=True)

    def setUp(self):
        self.page = self.window()
        self.errors, self.outside = [], []
        self.page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.page.on(
            "request",
            lambda request: (
                request.url.startswith((self.live_server_url, "blob:", "data:"))
                or self.outside.append(request.url)
            ),
        )

    def window(self):
        page = self.browser.new_page(viewport={"width": 1280, "height": 800})
        self.addCleanup(page.close)
        page.set_default_timeout(MINUTES * 60_000)
        if SLOW_PAGES:
            page.add_init_script(SLOWLY.replace("MS", str(SLOW_PAGES)))
        return page

    def make_shot(self, picture):
        page = self.page
        page.goto(self.live_server_url)
        page.fill("#id_name", "The Lantern Tide")
        self.click_through("text=Make the show")
        page.fill("#id_code", "LT900")
        self.click_through("text=Make the shot")
        page.set_input_files("#id_picture", picture)
        page.wait_for_selector("#light-table")
        self.shot_url = page.url.rsplit("/", 1)[0]

    def go(self, step):
        self.page.goto(f"{self.shot_url}/{step}")
        self.page.wait_for_load_state("networkidle")

    def click_through(self, text):
        """Click what leads to another page (a link, or a form that is posted), and wait until that
        one is there."""
        with self.page.expect_navigation():
            self.page.click(text)
        self.page.wait_for_load_state("networkidle")

    def loaded(self):
        """What is done here loads the page anew; that a page notes its frame in its address doesn't
        count."""
        return self.page.expect_event("load")

    def on_screen(self, at):
        a, b, scale = self.page.evaluate(
            "document.querySelector('#over').getAttribute('transform')"
            ".match(/-?[\\d.]+/g).map(Number)"
        )[:3]
        box = self.page.locator("#light-table").bounding_box()
        return box["x"] + a + at[0] * scale, box["y"] + b + at[1] * scale

    def until(self, holds):
        """Look again and again whether `holds()`; the page's own security forbids Playwright to
        look from within."""
        for _ in range(round(MINUTES * 60 * 20)):
            if holds():
                return
            self.page.wait_for_timeout(50)
        self.fail(f"This never came true: {holds}")

    @contextmanager
    def answered(self, part, sent="", page=None):
        """What is done here asks an address that holds `part`, with a message that holds `sent`; go
        on once the page shows the answer."""
        page = page or self.page

        def wanted(response):
            return part in response.url and sent in (response.request.post_data or "")

        with page.expect_response(wanted):
            yield
        self.quiet(page)

    def quiet(self, page=None):
        """Wait until the page has taken all answers: before that, the next key would mean what is
        not shown yet."""
        (page or self.page).wait_for_selector("body:not([aria-busy])")

    def saving(self, page=None):
        return self.answered("/match/save", page=page)

    def dragged(self):
        return self.answered("/drag", sent='"done":true')

    def state(self):
        return Shot.objects.with_head().get(code="LT900").state

    def accessible(self):
        result = Axe().run(self.page, options={"runOnly": ["wcag2a", "wcag2aa"]})
        found = [
            (v["id"], v["nodes"][0]["html"][:160], len(v["nodes"])) for v in result["violations"]
        ]
        self.assertEqual(found, [], self.page.url)
