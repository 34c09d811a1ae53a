"""The whole task in a real browser: a newcomer rolls a take, looks at it, packages it; an animator answers."""

import os
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.test import LiveServerTestCase, override_settings
from django.utils import timezone
from playwright.sync_api import expect, sync_playwright

from otrevo.server.bench.models import Run
from otrevo.server.floor.models import Rolling
from otrevo.server.shoot.models import Slate, Take
from tests.server.production import PASSWORD, calibrate, make_production, work

ARGUMENTS = [
    "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking", "--disable-quic",
]  # fmt: skip
CHROMIUM = next((p for p in ("/usr/bin/chromium", "/usr/bin/chromium-browser") if Path(p).exists()), "chromium")


# the live server takes every path below an unset static or media address for a file
@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class FirstTake(LiveServerTestCase):
    def setUp(self):
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"  # the browser's driver runs a loop in this thread
        self.assertTrue((settings.HOME / "web" / "dist" / "index.html").is_file(), "the front end must be built first")
        self.production, self.slate = make_production()
        calibrate(self.slate.performer)
        self.play = sync_playwright().start()
        self.browser = self.play.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        self.faults = []

    def tearDown(self):
        self.browser.close()
        self.play.stop()
        self.assertEqual(self.faults, [], "the page must not throw")

    def sign_in(self, role):
        page = self.browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.set_default_timeout(20000)
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.goto(self.live_server_url)
        page.get_by_label("Name").fill(f"{role}-SMS")
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("navigation", name="Places")).to_be_visible(timeout=20000)
        return page

    def at(self, page, path):
        page.goto(f"{self.live_server_url}/p/{self.production.pk}/{path}")

    def solved_take(self):
        page = self.sign_in("technician")
        self.at(page, f"floor/{self.slate.pk}")
        expect(page.get_by_text("Ready. T-pose")).to_be_visible(timeout=20000)
        page.keyboard.press("r")
        expect(page.get_by_text("● ROLLING")).to_be_visible(timeout=20000)
        Rolling.objects.update(started_at=timezone.now() - timezone.timedelta(seconds=40))
        page.keyboard.press("x")
        expect(page.get_by_role("region", name="Verdict")).to_contain_text("Take 1", timeout=20000)
        work()
        expect(page.get_by_role("region", name="Verdict")).to_contain_text("solved", timeout=20000)
        return page

    def test_roll_look_mend_package_and_answer(self):
        page = self.solved_take()
        page.keyboard.press("c")
        expect(page.get_by_role("button", name="circled C")).to_be_visible()
        page.get_by_label("Note on take 1 (N)").fill("good weight")
        page.get_by_role("button", name="To the bench").click()
        self.on_the_bench(page)
        self.hand_over(page)

    def on_the_bench(self, page):
        take = Take.objects.get()
        self.assertEqual((take.status, take.note), ("circled", "good weight"))
        expect(page.get_by_role("region", name="Solve")).to_contain_text("mm")
        expect(page.locator("canvas").first).to_be_visible()
        clock = page.get_by_role("timer", name="Timecode")
        start = clock.inner_text()
        page.keyboard.press("Shift+ArrowRight")
        page.keyboard.press("ArrowRight")
        self.assertNotEqual(clock.inner_text(), start)
        page.keyboard.press("i")
        expect(page.get_by_text("Redo")).to_be_visible()
        page.wait_for_function("() => true")
        snags = page.get_by_role("region", name="Snags")
        page.keyboard.press(".")
        current = snags.locator('[aria-current="true"]')
        expect(current).to_have_count(1)
        self.assertIn("snag=0", page.url)
        while current.get_by_role("button", name="Accept").count() == 0:
            page.keyboard.press(".")
        before = Run.objects.filter(name="solve").count()
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="Mend")).to_contain_text("1 mended", timeout=20000)
        self.assertEqual(Run.objects.filter(name="solve").count(), before + 1)
        work()
        page.keyboard.press("Control+z")
        expect(page.get_by_text("undone:")).to_be_visible()
        work()
        address = page.url
        page.reload()
        expect(page.get_by_role("region", name="Snags").locator('[aria-current="true"]')).to_have_count(1)
        self.assertEqual(page.url, address, "a reload must lose nothing")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
        page.keyboard.press("Escape")
        take.refresh_from_db()
        self.assertGreater(take.in_s, 0)
        page.get_by_role("button", name="Optical, open").click()
        expect(page.get_by_role("button", name="Close", exact=True)).to_be_visible()

    def hand_over(self, page):
        page.get_by_role("link", name="Handover").click()
        page.get_by_role("button", name="Package 1 take").click()
        expect(page.get_by_text("being built")).to_be_visible()
        work()
        page.get_by_role("button", name="Send").click(timeout=20000)
        expect(page.get_by_text("sent, no answer yet")).to_be_visible()
        animator = self.sign_in("animator")
        animator.get_by_role("link", name="SMS-day3").click()
        expect(animator.locator("canvas")).to_be_visible()
        with animator.expect_download() as download:
            animator.get_by_role("link", name="Download").click()
        self.assertEqual(download.value.suggested_filename, "SMS-day3.zip")
        animator.get_by_role("button", name="Send back with the note").click()
        expect(animator.get_by_role("alert")).to_contain_text("Say in a note")
        animator.get_by_label("Note").fill("lovely")
        animator.get_by_role("button", name="Accept").click()
        expect(animator.get_by_text("Accepted by animator-SMS")).to_be_visible()
        page.reload()
        expect(page.get_by_text("✓ accepted")).to_be_visible()

    def test_board_by_keyboard_and_files_refused_in_a_sentence(self):
        from otrevo.server.shoot.actions import make_take

        make_take(self.slate, User.objects.first(), duration_s=12.0, out_s=12.0)
        make_take(self.slate, User.objects.first(), duration_s=8.0, out_s=8.0)
        page = self.sign_in("technician")
        page.get_by_role("link", name="Slate 15 take 2").focus()
        page.keyboard.press("ArrowDown")
        expect(page.get_by_role("link", name="Slate 15 take 1")).to_be_focused()
        marks = page.get_by_role("radiogroup", name="Status of take 1").or_(page.get_by_label("Status of take 1")).first
        marks.get_by_text("hold").click()
        page.wait_for_timeout(400)
        self.assertEqual(Take.objects.get(number=1).status, "hold")
        page.locator('input[type="file"]').set_input_files(
            {"name": "x.c3d", "mimeType": "a/b", "buffer": b"junk" * 300}
        )
        expect(page.get_by_role("alert")).to_contain_text("x.c3d: not a C3D")
        page.keyboard.press("Escape")
        self.at(page, f"bench/{Take.objects.get(number=1).pk}")
        expect(page.get_by_text("Nothing to show yet")).to_be_visible()

    def test_wrong_password_empty_states_and_foreign_takes(self):
        page = self.browser.new_page()
        page.goto(self.live_server_url)
        page.get_by_label("Name").fill("technician-SMS")
        page.get_by_label("Password").fill("wrong")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("alert")).to_contain_text("do not match")
        page = self.sign_in("technician")
        self.at(page, "handover")
        expect(page.get_by_text("No packages yet")).to_be_visible()
        self.at(page, "cast")
        expect(page.get_by_role("heading", name="Ines")).to_be_visible()
        expect(page.get_by_role("img", name="The calibrated body")).to_be_visible()
        self.at(page, "bench/99999")
        expect(page.get_by_role("alert")).to_contain_text("no such thing here")
        Slate.objects.all().delete()
        self.at(page, "shoot")
        expect(page.get_by_text("No slates yet")).to_be_visible()
        animator = self.sign_in("animator")
        expect(animator.get_by_text("Nothing has been sent to you yet")).to_be_visible()
        expect(animator.get_by_role("link", name="Shoot")).to_have_count(0)
