"""The whole task in a real browser: a newcomer rolls a take, looks at it, packages it; an animator answers."""

import re
import tempfile
from fractions import Fraction
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

from django.contrib.auth.models import User
from django.test import LiveServerTestCase, override_settings
from playwright.sync_api import expect

from otrevo.core.formats.bvh import write_bvh
from otrevo.core.markers.chart import shipped_chart
from otrevo.core.sim.motions import perform
from otrevo.core.sim.performers import make_performer
from otrevo.server.floor.models import Rolling
from otrevo.server.shoot.models import Slate
from otrevo.server.takes.models import Mend, Take
from otrevo.server.work.models import Run
from tests.interface.browser import InBrowser
from tests.server.production import calibrate, make_production, work
from tests.server.recording import Stage


# the live server takes every path below an unset static or media address for a file
@override_settings(ALLOWED_HOSTS=["*"], STATIC_URL="/no-static/", MEDIA_URL="/no-media/")
class FirstTake(InBrowser, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.production, self.slate = make_production()
        calibrate(self.slate.performer)
        self.stage = self.enterContext(Stage())

    def solved_take(self):
        page = self.sign_in("technician", f"floor/{self.slate.pk}")
        expect(page.get_by_text("Ready. T-pose")).to_be_visible(timeout=20000)
        page.keyboard.press("r")
        expect(page.get_by_text("● ROLLING")).to_be_visible(timeout=20000)
        page.keyboard.press("n")  # the note is that of the take that rolls, and its keys are letters until it is left
        page.keyboard.type("x marks the spot")
        page.keyboard.press("Escape")
        page.keyboard.press("c")
        self.eventually(lambda: Rolling.objects.filter(note="x marks the spot", circled=True).count(), 1)
        self.stage.received(self.production.pk, 15)  # in which something has been covered for a while
        page.keyboard.press("x")
        expect(page.get_by_role("region", name="Verdict")).to_contain_text("Take 1", timeout=20000)
        self.eventually(Run.objects.filter(state="queued").count, 4)  # the recorder is storing what it recorded
        work()
        expect(page.get_by_role("region", name="Verdict")).to_contain_text("solved", timeout=20000)
        return page

    def test_roll_look_mend_package_and_answer(self):
        page = self.solved_take()
        expect(page.get_by_role("button", name="circled C")).to_be_visible()
        expect(page.get_by_label("Note on take 1 (N)")).to_have_value("x marks the spot")
        page.get_by_label("Note on take 1 (N)").fill("good weight")
        page.get_by_role("button", name="To the bench").click()
        self.on_the_bench(page)
        self.hand_over(page)

    def on_the_bench(self, page):
        self.eventually(lambda: (Take.objects.get().status, Take.objects.get().note), ("circled", "good weight"))
        expect(page.get_by_role("region", name="Solve")).to_contain_text("mm")
        stage = page.get_by_role("group", name="3D view")
        expect(stage.locator("canvas")).to_be_visible()
        self.eventually(lambda: self.lit(stage) > 0.02, True)
        clock = page.get_by_role("timer", name="Timecode")
        start = clock.inner_text()
        page.keyboard.press("Shift+ArrowRight")
        page.keyboard.press("ArrowRight")
        self.assertNotEqual(clock.inner_text(), start)
        page.keyboard.press("i")
        self.eventually(lambda: Take.objects.get().in_s > 0, True)
        snags = page.get_by_role("region", name="Snags")
        page.keyboard.press(".")
        current = snags.locator('[aria-current="true"]')
        expect(current).to_have_count(1)
        self.assertIn("snag=0", page.url)
        entries = snags.locator("ol > li")
        for number in range(entries.count()):  # to the first that offers something, each waited for
            expect(entries.nth(number)).to_have_attribute("aria-current", "true")
            if entries.nth(number).get_by_role("button", name="Accept").count():
                break
            page.keyboard.press(".")
        expect(current.get_by_role("button", name="Accept")).to_be_visible()
        way = snags.get_by_role("group", name="Way to fill").locator('[aria-pressed="true"]')
        proposed = way.inner_text()
        page.keyboard.press("m")
        expect(way).not_to_have_text(proposed)
        chosen = way.inner_text().removeprefix("by ")
        before = Run.objects.filter(name="solve").count()
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="Mend")).to_contain_text("1 mended", timeout=20000)
        self.assertEqual(Run.objects.filter(name="solve").count(), before + 1)
        self.assertEqual(Mend.objects.get().document["method"], chosen, "the way that was chosen, not the one proposed")
        # what is looked at next is what the list has picked, and still open
        marker = lambda: parse_qs(urlsplit(page.url).query)["marker"][0]  # noqa: E731
        self.eventually(lambda: marker() in current.inner_text() and "✓" not in current.inner_text(), True)
        work()
        page.keyboard.press("Control+z")
        expect(page.get_by_text("undone:")).to_be_visible()
        work()
        page.get_by_role("button", name="History").click()
        history = page.get_by_role("dialog", name="History of take 1")
        expect(history).to_contain_text("note on take 1")
        expect(history).to_contain_text("technician-SMS")
        page.keyboard.press("Escape")
        expect(history).to_have_count(0)
        address, late = page.url, ["queued", "queued"]

        def answer(route):  # as when a pass begins and ends between two looks at it
            take = (response := route.fetch()).json()
            if late:
                take["take"]["runs"][-1]["state"] = late.pop()
            route.fulfill(response=response, json=take)

        page.route("**/api/takes/*/bench", answer)
        page.reload()
        expect(page.get_by_role("region", name="Snags").locator('[aria-current="true"]')).to_have_count(1)
        for _ in range(300):  # the page asks until the take, too, says that the pass has ended
            if late:
                page.wait_for_timeout(100)
        expect(page.get_by_role("region", name="Solve")).to_contain_text("mm")
        expect(current.get_by_role("button", name="Accept")).to_be_enabled()
        self.assertEqual(late, [])
        self.assertEqual(page.url, address, "a reload must lose nothing")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
        page.keyboard.press("Escape")
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
        clock = animator.get_by_text(re.compile(r"^\d\d:\d\d:\d\d[:;]\d\d$"))
        began = clock.text_content()
        animator.keyboard.press("Shift+ArrowRight")
        expect(clock).not_to_have_text(began)
        looked_at = clock.text_content()
        animator.get_by_role("button", name="Send back with the note").click()
        expect(animator.get_by_role("alert")).to_contain_text("Say in a note")
        animator.get_by_label("Note").fill("lovely")
        animator.get_by_role("button", name="Accept").click()
        expect(animator.get_by_text("Accepted by animator-SMS")).to_be_visible()
        expect(clock).to_have_text(looked_at)  # an answer leaves the player where it was
        page.reload()
        expect(page.get_by_text("✓ accepted")).to_be_visible()

    def test_board_by_keyboard_and_files_refused_in_a_sentence(self):
        from otrevo.server.takes.actions import make_take

        make_take(self.slate, User.objects.first(), duration_s=12.0, out_s=12.0)
        make_take(self.slate, User.objects.first(), duration_s=8.0, out_s=8.0)
        page = self.sign_in("technician")
        page.get_by_role("link", name="Slate 15 take 2").focus()
        page.keyboard.press("ArrowDown")
        expect(page.get_by_role("link", name="Slate 15 take 1")).to_be_focused()
        marks = page.get_by_role("radiogroup", name="Status of take 1").or_(page.get_by_label("Status of take 1")).first
        marks.get_by_text("hold").click()
        self.eventually(lambda: Take.objects.get(number=1).status, "hold")
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
        page = self.sign_in("technician", "handover")
        expect(page.get_by_text("No packages yet")).to_be_visible()
        self.at(page, "cast")
        expect(page.get_by_role("heading", name="Ines")).to_be_visible()
        expect(page.get_by_role("img", name="The calibrated body")).to_be_visible()
        self.at(page, "bench/99999")
        expect(page.get_by_role("alert")).to_contain_text("no such thing here")
        page.goto(f"{self.live_server_url}/p/99999/floor")
        expect(page.get_by_text("You are not part of this production")).to_be_visible()
        page.get_by_role("main").get_by_role("link", name=self.production.name).click()
        expect(page.get_by_role("heading", name="Day")).to_be_visible()
        Slate.objects.all().delete()
        self.at(page, "floor")
        expect(page.get_by_text("No slate to roll")).to_be_visible()
        page.get_by_role("link", name="Add one on the board").click()
        expect(page.get_by_text("No slates yet")).to_be_visible()
        animator = self.sign_in("animator")
        expect(animator.get_by_text("Nothing has been sent to you yet")).to_be_visible()
        expect(animator.get_by_role("link", name="Shoot")).to_have_count(0)

    def test_a_newcomer_begins_a_production_and_casts_it(self):
        page = self.sign_in("technician")
        page.get_by_role("button", name="New production").click()
        page.get_by_label("Production", exact=True).fill(
            "Low Water, a very long working title that nobody will ever say in full"
        )
        page.get_by_role("textbox", name="Code").fill("LOW")
        self.choose(page, "Timecode", "25")
        expect(page.get_by_label("drop-frame")).to_be_disabled()
        page.get_by_label("File names").fill("{slate}")
        page.get_by_role("button", name="Begin production").click()
        expect(page.get_by_role("alert")).to_contain_text("must contain {slate} and {take}")
        page.get_by_label("File names").fill("{production}_{slate}_{take:02d}")
        page.get_by_role("button", name="Begin production").click()
        expect(page.get_by_role("heading", name="Day 1")).to_be_visible()
        expect(page.get_by_text("No slates yet")).to_be_visible()
        page.get_by_role("link", name="Cast").click()
        expect(page.get_by_text("Nobody in the cast yet")).to_be_visible()
        page.get_by_role("button", name="New performer").click()
        page.get_by_label("Name").fill("Odalys")
        page.get_by_label("Height in metres").fill("172")
        page.get_by_role("button", name="Add performer").click()
        expect(page.get_by_role("alert")).to_contain_text("expected metres")
        page.get_by_label("Height in metres").fill("1,72")
        page.locator("label").filter(has_text="Gloves").click()
        page.get_by_role("button", name="Add performer").click()
        expect(page.get_by_role("heading", name="Odalys")).to_be_visible()
        expect(page.get_by_text("Not calibrated yet")).to_be_visible()
        page.get_by_role("button", name="Roll a warm-up").first.click()
        expect(page.get_by_text("W1").first).to_be_visible()
        page.get_by_role("link", name="Cast").click()
        page.get_by_text("Odalys").first.click()
        page.get_by_role("button", name="From files").click()
        expect(page.get_by_role("region", name="Slate W1")).to_contain_text("drop its files here")
        expect(page.get_by_role("button", name="Slate for files")).to_contain_text("W1")
        page.get_by_role("button", name="New day").click()
        page.get_by_label("Stage").fill("Breakwater")
        page.get_by_role("button", name="Add day").click()
        expect(page.get_by_role("heading", name="Day 2")).to_be_visible()
        self.assertIn("day=2", page.url)
        page.get_by_role("button", name="New slate").first.click()
        page.get_by_label("Slate", exact=True).fill("3A")
        page.get_by_label("What happens").fill("The lamp is lit")
        page.locator("label").filter(has_text="with the lantern").click()
        page.get_by_role("button", name="Add slate").click()
        expect(page.get_by_role("region", name="Slate 3A")).to_contain_text("optical, suit, face, lantern")
        page.get_by_role("group", name="Shoot days").get_by_role("button", name="1").click()
        expect(page.get_by_role("region", name="Slate W1")).to_be_visible()

    def drop_on(self, region, name, text):
        """Let go of a file over a part of the page, as a mouse does that drags it in."""
        held = region.page.evaluate_handle(
            "([name, text]) => { const held = new DataTransfer(); held.items.add(new File([text], name)); return held; }",
            [name, text],
        )
        for what in ("dragover", "drop"):
            region.dispatch_event(what, {"dataTransfer": held})

    def test_a_dropped_motion_file_plays(self):
        motion = perform("rope haul", make_performer(3, shipped_chart()), 3, Fraction(60)).motion
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "haul.bvh"
            write_bvh(path, motion)
            page = self.sign_in("technician")
            self.drop_on(page.get_by_role("region", name="Slate W1"), "notes.bvh", "no motion at all")
            refused = page.get_by_role("region", name="Slate W1").get_by_role("alert")
            expect(refused).to_contain_text("notes.bvh")
            expect(page.get_by_role("region", name="Slate 15").get_by_role("alert")).to_have_count(0)
            self.drop_on(page.get_by_role("region", name="Slate 15"), "haul.bvh", path.read_text())
            expect(page.get_by_role("link", name="Slate 15 take 1, open on the bench")).to_be_visible()
            expect(refused).to_have_count(0)
            page.get_by_role("button", name="Slate for files").click()
            page.get_by_role("option", name="W1").click()
            page.locator('input[type="file"]').set_input_files(path)
            expect(page.get_by_role("link", name="Slate W1 take 1, open on the bench")).to_be_visible()
        page.get_by_role("link", name="Slate 15 take 1, open on the bench").click()
        expect(page.locator("canvas").first).to_be_visible()
        expect(page.get_by_text("body from a file")).to_be_visible()
        clock = page.get_by_role("timer", name="Timecode")
        before = clock.inner_text()
        page.keyboard.press("Shift+ArrowRight")
        expect(clock).not_to_have_text(before)
