"""A headless Chromium for interface tests: sign in, go somewhere, and no page may throw."""

import os
import shutil
import time

import cv2
import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import CommandError
from django.db import OperationalError
from django.test import Client
from playwright.sync_api import expect, sync_playwright

from tests.server.production import PASSWORD

ARGUMENTS = [
    "--no-sandbox", "--disable-gpu-compositing", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking", "--disable-quic",
]  # fmt: skip
expect.set_options(timeout=90000)  # a busy machine is slow, and what never comes fails all the same
TRIES = 5  # to empty the database after a test
CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium")


class Open:
    """The browser of this process, which stays open from one class to the next."""

    play = browser = None

    @classmethod
    def start(cls):
        if cls.browser is None:
            os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"  # the browser's driver runs a loop in this thread
            cls.play = sync_playwright().start()
            cls.browser = cls.play.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        return cls.browser

    @classmethod
    def end(cls):
        """Before tests that need this thread's loop for themselves, and at the end."""
        if cls.browser is not None:
            cls.browser.close()
            cls.play.stop()
            del os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"]
            cls.play = cls.browser = None


class InBrowser:
    """For a TestCase that has `live_server_url` and sets `production` after this setUp.

    Every sign-in has a context of its own in the browser, so none knows of another.
    """

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        assert (settings.HOME / "web" / "dist" / "index.html").is_file(), "the front end must be built first"
        cls.browser = Open.start()

    def _fixture_teardown(self):
        """Empties the database as Django does. A request that a page sent at the very end may hold on to it meanwhile: then once more."""
        for left in reversed(range(TRIES)):
            try:
                super()._fixture_teardown()
                break
            except CommandError as error:
                if left == 0 or not isinstance(error.__cause__, OperationalError):
                    raise

    def setUp(self):
        self.faults = []
        self.addCleanup(lambda: [context.close() for context in self.browser.contexts])

    def tearDown(self):
        tall = "document.documentElement.scrollHeight - window.innerHeight"
        pages = [page for context in self.browser.contexts for page in context.pages]
        scrolled = {page.url: over for page in pages if (over := page.evaluate(tall)) > 0}
        self.assertEqual(self.faults, [], "the page must not throw")
        self.assertEqual(scrolled, {}, "places scroll within the page, never the page")

    def sign_in(self, role, at=None):
        """A page of somebody who signs in by hand; or who has done so before, and opens a place of the production."""
        context = self.browser.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.set_default_timeout(90000)
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        if at is not None:
            before = Client()
            before.force_login(User.objects.get(username=f"{role}-SMS"))
            kept = before.cookies[settings.SESSION_COOKIE_NAME]
            context.add_cookies([{"name": kept.key, "value": kept.value, "url": self.live_server_url}])
            self.at(page, at)
            return page
        page.goto(self.live_server_url)
        page.get_by_label("Name").fill(f"{role}-SMS")
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("navigation", name="Places")).to_be_visible()
        return page

    def choose(self, page, label, words):
        """Choose one of several in a list that opens."""
        page.get_by_role("button", name=label).click()
        page.get_by_role("option", name=words, exact=isinstance(words, str)).click()

    def at(self, page, path):
        page.goto(f"{self.live_server_url}/p/{self.production.pk}/{path}")

    def picture(self, view):
        """What a view shows, (H, W, 3)."""
        return cv2.imdecode(np.frombuffer(view.screenshot(), np.uint8), cv2.IMREAD_COLOR)

    def lit(self, view):
        """The share of a view's pixels that are bright: of a body in the light several hundredths, of markers and fingers alone less than one."""
        return float((self.picture(view).max(axis=2) > 150).mean())

    def eventually(self, what, wanted, seconds=90):
        """The database comes to say what the page was told: a request may still be on its way."""
        ends = time.monotonic() + seconds
        while what() != wanted and time.monotonic() < ends:
            time.sleep(0.1)
        self.assertEqual(what(), wanted)
