"""The room prepared in a real browser, with cameras, recorder, web server and worker as processes of their own."""

import os
import re
import tempfile
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.contrib.auth.hashers import PBKDF2PasswordHasher
from django.contrib.auth.models import User
from django.db import connection
from django.test import TransactionTestCase
from playwright.sync_api import expect

from otrevo.server.cluster import free_port
from otrevo.server.launch import add_parts, wait_for
from otrevo.server.stage.models import StageRecording
from otrevo.server.stage.room import current_blinds, room_of
from otrevo.server.supervise import Supervisor
from otrevo.server.takes.models import Take
from otrevo.standins import world
from tests.interface.browser import InBrowser
from tests.server.production import PASSWORD, calibrate, make_production


class PreparingTheRoom(InBrowser, TransactionTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.folder = tempfile.TemporaryDirectory()
        port = free_port()
        environment = {"OTREVO_DB_NAME": connection.settings_dict["NAME"], "PYTHONPATH": str(settings.HOME / "src")}
        with mock.patch.dict(os.environ, environment):
            cls.parts = Supervisor(cls.folder.name)
            add_parts(cls.parts, port, Path(cls.folder.name), workers=1)
        cls.live_server_url = f"http://127.0.0.1:{port}"
        assert wait_for(f"{cls.live_server_url}/api/health", 60), "the web server did not start"

    @classmethod
    def tearDownClass(cls):
        cls.parts.stop()
        cls.folder.cleanup()
        super().tearDownClass()

    def setUp(self):
        super().setUp()
        self.production, self.slate = make_production()
        self.room = room_of(self.production)
        calibrate(self.slate.performer)
        # tests hash passwords quickly; the server, a process of its own, only knows the real way
        User.objects.update(password=PBKDF2PasswordHasher().encode(PASSWORD, "salt", 1000))

    def live(self, page):
        expect(page.get_by_text("12 of 12 live")).to_be_visible()

    def test_from_blinds_to_a_solved_room(self):
        self.room.calibrations.all().delete()
        page = self.sign_in("technician")
        page.get_by_role("link", name="Stage").click()
        self.live(page)
        expect(page.get_by_role("button", name="Cameras in the simulated room")).to_contain_text("12 cameras")
        page.get_by_role("button", name="Room", exact=True).click()
        expect(page.get_by_text("Nobody knows yet where the cameras hang")).to_be_visible()
        page.get_by_role("button", name="Pictures").click()

        page.get_by_role("button", name="Record ten still seconds").click()
        expect(page.get_by_text("of 10. Nobody moves.")).to_be_visible()
        expect(page.get_by_text("found in the still room")).to_be_visible()
        found = len(current_blinds(self.room)[0])
        self.assertGreater(found, 0)
        self.draw_a_blind(page, found)

        page.get_by_role("link", name="sweep the wand").click()
        page.get_by_role("button", name="Start the sweep").click()
        expect(page.get_by_text("of the slowest camera")).to_be_visible()
        expect(page.get_by_role("button", name="Stop and solve")).to_be_disabled()
        page.get_by_role("button", name="show large, for across the room").click()
        expect(page.get_by_role("dialog", name="Coverage, large")).to_contain_text("c12")
        page.keyboard.press("Escape")
        rate = page.get_by_title("Updates of this page a second")
        expect(rate).to_have_text(re.compile(r"[1-9]"))
        page.wait_for_timeout(14000)
        page.get_by_role("button", name="Stop early, keep it").click()
        page.get_by_role("button", name="solve", exact=True).click()
        expect(page.get_by_role("button", name="1 sweep")).to_be_visible(timeout=240000)
        page.get_by_role("link", name="look at each of them").click()
        expect(page.get_by_role("region", name="Cameras")).to_contain_text("12 of 12")
        self.assertEqual(self.room.calibrations.get().how, "sweep")

        page.get_by_role("link", name="origin and level", exact=True).click()
        page.get_by_role("button", name="Record the wand").click()
        expect(page.get_by_text("quay corner, ")).to_be_visible()
        page.get_by_role("button", name="Record floor markers").click()
        expect(page.get_by_text("not recorded yet")).to_have_count(0)
        page.get_by_role("button", name="Level version 1").click()
        expect(page.get_by_text("floor markers off the plane, RMS")).to_be_visible()
        self.assertEqual(self.room.calibrations.latest("id").how, "level")
        page.get_by_role("link", name="roll on the Floor").click()
        expect(page.get_by_text("Ready. T-pose")).to_be_visible()

    def draw_a_blind(self, page, found):
        page.get_by_role("button", name="Camera c02").click()
        expect(page.get_by_role("button", name="all cameras")).to_be_visible()
        picture = page.get_by_role("img", name="Picture of camera c02")
        expect(picture).to_be_visible()
        drawn = page.get_by_role("button", name="Blind at")
        before = drawn.count()
        box = picture.bounding_box()
        page.mouse.dblclick(box["x"] + box["width"] / 4, box["y"] + box["height"] / 4)
        self.eventually(lambda: len(current_blinds(self.room)[0]), found + 1)
        expect(drawn).to_have_count(before + 1)  # the page knows it too
        drawn.last.press("Shift+ArrowRight")  # in one step: an answer on its way may draw the blinds anew
        self.eventually(lambda: current_blinds(self.room)[0][-1]["x"] > 520, True)
        drawn.last.focus()
        page.keyboard.press("Delete")
        self.eventually(lambda: len(current_blinds(self.room)[0]), found)
        expect(drawn).to_have_count(before)
        page.get_by_role("button", name="undo").click()
        self.eventually(lambda: len(current_blinds(self.room)[0]), found + 1)

    def test_a_reload_in_the_middle_of_a_recording_loses_nothing(self):
        page = self.sign_in("technician", "stage/sweep")
        self.live(page)
        page.get_by_role("button", name="Start the sweep").click()
        expect(page.get_by_text("of the slowest camera")).to_be_visible()
        page.wait_for_timeout(2000)
        page.reload()
        expect(page.get_by_text("of the slowest camera")).to_be_visible()
        page.get_by_role("button", name="Stop early, keep it").click()
        expect(page.get_by_role("heading", name="Recorded")).to_be_visible()
        self.eventually(StageRecording.objects.count, 1)  # the stop may still be on its way
        self.assertGreater(StageRecording.objects.get().seconds, 2)

    def test_level_trust_and_views(self):
        page = self.sign_in("supervisor", "stage/level?view=plan")
        expect(page.get_by_role("img", name="Plan of the room: cameras")).to_be_visible()
        page.get_by_role("button", name="mm").click()
        expect(page.get_by_role("img", name="expected accuracy at 1.0 metres")).to_be_visible()
        page.get_by_role("button", name="Turn 90° left").click()
        expect(page.get_by_role("button", name="2 adjust")).to_be_visible()
        page.get_by_role("link", name="5 Trust").click()
        expect(page.get_by_text("that is taken out here")).to_contain_text("90.00°")
        page.get_by_role("button", name="c03", exact=True).click()
        page.get_by_role("button", name="look through c03").click()
        expect(page.get_by_role("button", name="leave c03")).to_be_visible()
        self.assertIn("camera=c03", page.url)

    def test_a_knock_is_said_on_the_floor_while_rolling(self):
        world.knock(self.production.pk, "c07")
        page = self.sign_in("technician", f"floor/{self.slate.pk}")
        expect(page.get_by_text(re.compile("(all|of) 12 cameras"))).to_be_visible()
        page.keyboard.press("r")
        expect(page.get_by_role("alert")).to_contain_text("Camera c07 has been knocked")
        expect(page.get_by_role("link", name="Place the camera anew")).to_be_visible()
        page.wait_for_timeout(5000)  # so that the take says where the camera is now
        page.keyboard.press("x")
        verdict = page.get_by_role("region", name="Verdict")
        expect(verdict).to_contain_text("camera c07 was knocked", timeout=240000)
        expect(verdict).to_contain_text("usable")
        take = Take.objects.latest("id")
        self.look_at_a_marker(page, take)
        self.rebuild_with_other_limits(page, take)
        self.place_anew(page, take)

    def place_anew(self, page, take):
        self.at(page, f"stage/trust?take={take.pk}")
        page.get_by_role("button", name="Place c07 anew").click()
        page.get_by_role("button", name="Rebuild this take with version").click(timeout=240000)
        trust = page.get_by_role("region", name="Trust")
        expect(trust).to_contain_text("all true", timeout=240000)
        self.assertEqual(self.room.calibrations.latest("id").how, "placed anew")
        self.assertEqual(Take.objects.get(pk=take.pk).stage_calibration.how, "placed anew")

    def look_at_a_marker(self, page, take):
        self.at(page, f"stage/trust?take={take.pk}&view=pictures&camera=c03")
        marker = page.get_by_role("button", name="Marker", exact=False)
        marker.click()
        page.get_by_role("option").nth(5).click()
        seen = page.get_by_role("status").filter(has_text="seen by")
        expect(seen).to_contain_text(re.compile(r"seen by \d+: c\d\d \d\.\d\d"))
        picture = page.get_by_role("img", name="Picture of camera c03")
        picture.click(position={"x": 3, "y": 3})  # no point lies there
        expect(marker).to_contain_text("none")

    def rebuild_with_other_limits(self, page, take):
        self.at(page, f"bench/{take.pk}")
        page.get_by_role("button", name="Settings of Rebuild").click()
        sheet = page.get_by_role("dialog", name="Settings of Rebuild")
        cameras = sheet.get_by_label("cameras that must see a new point")
        expect(cameras).to_have_value("3")
        cameras.fill("1")
        expect(sheet.get_by_role("button", name="Run again")).to_be_disabled()
        cameras.fill("5")
        sheet.get_by_role("button", name="Run again").click()
        runs = take.runs.filter(name="rebuild")
        self.eventually(runs.count, 2)
        self.assertEqual(runs.last().parameters, {"min_cameras": 5, "residual_limit_px": 0.7})
        expect(page.get_by_role("region", name="Rebuild")).to_contain_text("mm")

    def test_an_animator_has_no_stage(self):
        page = self.sign_in("animator", "handover")
        expect(page.get_by_role("navigation", name="Places")).to_be_visible()
        expect(page.get_by_role("link", name="Stage")).to_have_count(0)
        self.at(page, "stage")
        expect(page.get_by_role("alert").first).to_contain_text("As animator you cannot do this")
